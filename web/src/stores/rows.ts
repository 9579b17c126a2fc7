import type { Board, Cell, QuotaSeen, Row } from '../api/client'

/** A row with its cells in place of their indexes. Cells that look alike are one object. */
export interface BoardRow extends Omit<Row, 'access' | 'tokens' | 'origins' | 'counted'> {
  access: Cell[]
  tokens: Cell[]
  origins: Cell[]
  quotas: QuotaSeen[]
}

/** The rows of a board with what is needed to follow it. */
export interface Rows {
  list: BoardRow[]
  version: string
  quotas: string // what was known of quotas, to see whether it changed
}

export const none: Rows = { list: [], version: '', quotas: '' }

/** Takes in a board: all its rows, or those that changed since `was`. Rows that did not change stay
 * the same objects, so that nothing of them is drawn again. Null where rows are missing, so that
 * the whole board must be asked for. */
export function follow(was: Rows, b: Board): Rows | null {
  const cells = (list: number[]): Cell[] => list.map((i) => b.cells[i]!)
  const counted = new Map<string, number[]>()
  const made = (r: Row): BoardRow => {
    counted.set(r.key, r.counted)
    return {
      ...r,
      access: cells(r.access),
      tokens: cells(r.tokens),
      origins: cells(r.origins),
      quotas: r.counted.map((i) => b.quotas[i]!),
    }
  }
  const quotas = JSON.stringify(b.quotas)
  if (b.whole) return { list: b.rows.map(made), version: b.version, quotas }
  const fresh = new Map(b.rows.map((r) => [r.key, made(r)]))
  if (was.list.length !== b.total) return null
  const known = new Map(b.quotas.map((q) => [q.name, q]))
  const list = was.list.map((r) => {
    const f = fresh.get(r.key)
    if (f) {
      fresh.delete(r.key)
      return f
    }
    if (quotas === was.quotas || !r.quotas.length) return r
    return { ...r, quotas: r.quotas.map((q) => known.get(q.name) ?? q) }
  })
  return fresh.size
    ? null
    : { list: quotas === was.quotas && !b.rows.length ? was.list : list, version: b.version, quotas }
}
