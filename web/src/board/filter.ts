import type { Kind } from '../api/client'
import type { Cell, Head, Lens, ShownRow } from '../lenses'
import type { Shown } from '../stores/workspace'
import { kinds } from '../theme/kinds'

export const filterKeys = ['gap', 'role', 'caller', 'effect', 'sensitivity', 'method', 'since']
const flags = ['unproven', 'unprobed', 'gaps']

export interface Filter {
  row(r: ShownRow): boolean
  head(h: Head): boolean
  quiet: boolean // only rows and columns with gaps
  wrong: string[] // words that mean nothing
}

function kindOf(name: string): Kind | undefined {
  return kinds.find((k) => k.name.replace(' ', '-') === name || k.kind.toLowerCase() === name)?.kind
}

/** Columns with a crossing that is otherwise since a sweep, by route. */
export type Changed = Map<string, Set<string>>

/** The sweep since which only what changed is asked for; 0 without one. */
export function sinceOf(text: string): number {
  return Number(/(?:^|\s)since:(\d+)(?:\s|$)/.exec(text)?.[1] ?? 0)
}

/** Reads "gap:unprotected role:operator /dome": all words must hold; several
 * values of one key, joined by a comma, are alternatives. */
export function parse(text: string, b: Shown, lens: Lens, heads: Head[], changed?: Changed): Filter {
  const rows: ((r: ShownRow) => boolean)[] = []
  const cols: ((h: Head) => boolean)[] = []
  const wrong: string[] = []
  let quiet = false
  const anyCell = (r: ShownRow, test: (c: Cell) => boolean) =>
    heads.some((h) => cols.every((f) => f(h)) && test(lens.cell(r, h)))
  for (const word of text.trim().split(/\s+/).filter(Boolean)) {
    const [, key, value] = /^([a-z]+):(.*)$/.exec(word) ?? []
    const values = (value ?? '').toLowerCase().split(',').filter(Boolean)
    if (key && filterKeys.includes(key)) {
      if (values.length === 0) continue
      if (key === 'gap') {
        const found = values.map(kindOf)
        if (found.includes(undefined)) wrong.push(word)
        const want = found.filter((k) => k !== undefined)
        if (want.length)
          rows.push((r) => (!!r.worst && want.includes(r.worst)) || anyCell(r, (c) => want.includes(c.found)))
      } else if (key === 'role') {
        cols.push((h) => h.columns.some((i) => values.some((v) => b.columns[i]?.roles.includes(v))))
      } else if (key === 'caller') {
        cols.push((h) =>
          h.columns.some((i) => values.some((v) => (b.columns[i]?.label ?? '').toLowerCase().includes(v))),
        )
      } else if (key === 'effect') rows.push((r) => values.includes(r.effect ?? ''))
      else if (key === 'sensitivity') rows.push((r) => values.includes(r.sensitivity))
      else if (key === 'since') {
        if (!sinceOf(word) || !changed) wrong.push(word)
        const has = (keys: Set<string> | undefined, h: Head) =>
          !!keys && (keys.has(h.key) || h.columns.some((i) => keys.has(b.columns[i]?.key ?? '')))
        rows.push((r) => heads.some((h) => has(changed?.get(r.key), h)))
        cols.push((h) => [...(changed?.values() ?? [])].some((keys) => has(keys, h)))
      } else if (key === 'method') rows.push((r) => values.includes(r.method.toLowerCase()))
    } else if (flags.includes(word)) {
      if (word === 'gaps') quiet = true
      else rows.push((r) => anyCell(r, (c) => c.found === word))
    } else {
      const w = word.toLowerCase()
      rows.push((r) => r.key.toLowerCase().includes(w) || r.summary.toLowerCase().includes(w))
    }
  }
  return {
    row: (r) => rows.every((f) => f(r)),
    head: (h) => cols.every((f) => f(h)),
    quiet,
    wrong,
  }
}

/** What could follow in the filter line. */
export function completions(text: string, b: Shown): string[] {
  const at = text.lastIndexOf(' ') + 1
  const before = text.slice(0, at)
  const word = text.slice(at)
  const values: Record<string, string[]> = {
    gap: kinds.map((k) => k.name.replace(' ', '-')),
    role: [...new Set(b.columns.flatMap((c) => c.roles))],
    caller: b.columns.map((c) => c.label),
    effect: ['read', 'create', 'update', 'delete', 'command'],
    sensitivity: ['low', 'medium', 'high'],
    method: [...new Set(b.rows.map((r) => r.method.toLowerCase()))],
  }
  const all = [
    ...flags,
    ...filterKeys.flatMap((k) =>
      word.startsWith(`${k}:`) || k.startsWith(word) ? (values[k] ?? []).map((v) => `${k}:${v}`) : [],
    ),
    ...new Set(b.rows.map((r) => r.prefix)),
  ]
  if (!word) return filterKeys.map((k) => `${before}${k}:`)
  return all
    .filter((w) => w.startsWith(word) && w !== word)
    .slice(0, 12)
    .map((w) => before + w)
}
