import type { ComparedFinding, FindingChange, Kind } from '../../api/client'
import { kinds } from '../../theme/kinds'

/** What ends between two sweeps, and what begins. */
export const ends: FindingChange[] = ['mended', 'moved', 'not checked']
export const begins: FindingChange[] = ['new', 'back']

export interface Bar {
  kind: Kind
  name: string
  n: number
  y: number
  height: number
}
export interface Knot {
  change: FindingChange
  n: number
  y: number
  height: number
}
export interface Band {
  kind: Kind
  change: FindingChange
  n: number
  from: number // the middle of where it begins
  to: number
  width: number
}
export interface Flow {
  left: Bar[]
  right: Bar[]
  ended: Knot[]
  begun: Knot[]
  bands: Band[]
  height: number
}

const gap = 14
const top = 34

/** Lays out findings as bands from the kinds of the earlier sweep, on the left, to those of the later. */
export function flow(list: ComparedFinding[], most = 300): Flow {
  const count = (k: Kind, of: FindingChange[]) => list.filter((f) => f.kind === k && of.includes(f.change)).length
  const used = kinds.filter((k) => list.some((f) => f.kind === k.kind))
  const unit = Math.min(14, (most - gap * used.length) / Math.max(1, list.length))
  const least = 3 // so that one of many is seen
  const high = (n: number) => (n ? Math.max(least, n * unit) : 0)
  const bars = (of: FindingChange[]): Bar[] => {
    let y = top
    return used.flatMap((k) => {
      const n = count(k.kind, of)
      if (!n) return []
      const bar = { kind: k.kind, name: k.name, n, y, height: high(n) }
      y += bar.height + gap
      return [bar]
    })
  }
  const left = bars(['unchanged', ...ends])
  const right = bars(['unchanged', ...begins])
  const knots = (of: FindingChange[], at: number): Knot[] => {
    let y = at
    return of.flatMap((change) => {
      const n = list.filter((f) => f.change === change).length
      if (!n) return []
      const knot = { change, n, y, height: high(n) }
      y += Math.max(knot.height, 34) + gap
      return [knot]
    })
  }
  const ended = knots(ends, top + 20)
  const begun = knots(begins, top + 10)
  const bands: Band[] = []
  const taken = new Map<Bar | Knot, number>()
  const take = (b: Bar | Knot, n: number) => {
    const at = taken.get(b) ?? 0
    const part = (b.height * n) / b.n
    taken.set(b, at + part)
    return { middle: b.y + at + part / 2, part }
  }
  const join = (kind: Kind, change: FindingChange, a: Bar | Knot | undefined, b: Bar | Knot | undefined) => {
    const n = count(kind, [change])
    if (!n || !a || !b) return
    const [p, q] = [take(a, n), take(b, n)]
    bands.push({ kind, change, n, from: p.middle, to: q.middle, width: Math.min(p.part, q.part) })
  }
  for (const k of used) {
    const l = left.find((b) => b.kind === k.kind)
    const r = right.find((b) => b.kind === k.kind)
    join(k.kind, 'unchanged', l, r)
    for (const e of ended) join(k.kind, e.change, l, e)
    for (const e of begun) join(k.kind, e.change, e, r)
  }
  const bottom = [...left, ...right, ...ended, ...begun].map((b) => b.y + b.height)
  return { left, right, ended, begun, bands, height: Math.max(120, ...bottom.map((b) => b + 24)) }
}
