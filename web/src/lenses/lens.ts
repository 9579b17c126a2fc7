import type { Cell as Seen, Column, Expect, Kind, Severity } from '../api/client'
import type { BoardRow } from '../stores/rows'
import type { Shown } from '../stores/workspace'

/** One column as the grid shows it: a caller, or several folded into one. */
export interface Head {
  key: string
  label: string
  sub: string
  columns: number[] // indexes into the board's columns
  folded: boolean
  index?: number // of a lens whose columns are no callers
  title?: string // what it stands for, where the label is short
}

/** How what is declared is drawn. */
export type Gate = 'open' | 'some' | 'shut' | 'undecided' | 'oneway' | 'user' | 'nothing' | 'quota' | 'uncounted'

/** What a cell shows. */
export interface Cell {
  gate: Gate
  expected: string // in words
  found: Kind
  severity?: Severity
  inferred: boolean
  pending: boolean // an edit that is not kept yet changes it
  bar?: number // of a lens that measures: what was seen, as a part of what is allowed; -1 when nothing was
}

/** A row with what pending edits make of it: the columns of callers, and of pages, that they change. */
export type ShownRow = BoardRow & { pending?: Set<number>; pendingPages?: Set<number> }

/** A lens says its columns and what a cell shows. */
export interface Lens {
  id: string // in addresses
  name: string
  question: string
  heads(b: Shown, open: Set<number>): Head[]
  cell(r: ShownRow, h: Head): Cell
}

/** What is declared of callers and ways, drawn and in words, and the status that it has by itself. */
export const declared: Record<Expect, [Gate, string, number?]> = {
  refuse: ['shut', 'refuse', 401],
  forbid: ['shut', 'forbid', 403],
  hide: ['shut', 'hide', 404],
  admit: ['open', 'admit'],
  own: ['some', 'admit for an own record'], // or for those that a cell names
  shut: ['shut', 'turn away'],
  undecided: ['undecided', 'nothing yet: nobody has decided who may call this'],
  nothing: ['shut', 'nothing, and a browser does nothing for it'],
  send: ['oneway', 'send blindly'],
  read: ['open', 'read, without the user’s cookies'],
  'read-as-user': ['user', 'read as the user, with the cookies'],
  absent: ['nothing', 'nothing: it means nothing here'],
}

/** A cell as it is seen of one column. */
export function shown(c: Seen | undefined): Cell {
  const [gate, plain, own] = declared[c?.expect ?? 'absent']
  const words = c?.some ? `admit ${c.some}` : plain
  const status = c?.status ?? own
  return {
    gate,
    expected: status ? `${words} (${status})` : words,
    found: c?.found ?? 'unprobed',
    severity: c?.severity,
    inferred: c?.inferred ?? false,
    pending: false,
  }
}

export function headOf(c: Column, i: number): Head {
  return { key: c.key, label: c.label, sub: c.sub, columns: [i], folded: false }
}
