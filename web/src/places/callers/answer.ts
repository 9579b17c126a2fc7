import type { CallerTried } from '../../api/client'
import { memberOf } from '../../parts/pointer'

/** A line of an answer: a value with where it stands (RFC 6901), and what a login takes it for. */
export interface Leaf {
  name: string
  pointer: string
  value: string // "" of what opens lines of its own
  depth: number
  is: string // "access", "refresh", or nothing
}

/** The lines of a JSON answer; none where it is no JSON. */
export function named(content: string, takes: CallerTried['takes']): Leaf[] {
  let body: unknown
  try {
    body = JSON.parse(content)
  } catch {
    return []
  }
  const at = new Map(takes.map((t) => [t.pointer, t.name]))
  const out: Leaf[] = []
  const walk = (v: unknown, name: string, pointer: string, depth: number) => {
    const inner = v !== null && typeof v === 'object' ? Object.entries(v) : []
    if (depth >= 0)
      out.push({ name, pointer, depth, is: at.get(pointer) ?? '', value: inner.length ? '' : JSON.stringify(v) })
    for (const [n, m] of inner) walk(m, n, memberOf(pointer, n), depth + 1)
  }
  walk(body, '', '', -1)
  return out
}
