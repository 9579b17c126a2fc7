import type { FindingLine, Point, State } from '../../api/client'
import { day } from '../../parts/time'
import { kinds } from '../../theme/kinds'
import { asks, severities, states } from './filter'
import { plural } from '../../parts/words'

/** By what findings can be put together. */
export const groupings = [
  { by: 'place', says: 'by place of the mend' },
  { by: 'group', says: 'by route group' },
  { by: 'kind', says: 'by kind' },
  { by: 'cause', says: 'by cause' },
  { by: 'state', says: 'by state' },
] as const
export type By = (typeof groupings)[number]['by']

export const sortings = [
  { by: 'severity', says: 'gravest first' },
  { by: 'newest', says: 'newest first' },
  { by: 'crossings', says: 'most crossings first' },
  { by: 'where', says: 'by place, A to Z' },
] as const
export type Sorting = (typeof sortings)[number]['by']

export interface Group {
  name: string
  mono: boolean // a path or a name of the declaration
  says: string
  list: FindingLine[]
}

const kindOrder = kinds.map((k) => k.kind)
const stateOrder = states.map((s) => s.state)
const orders: Record<Sorting, (a: FindingLine, b: FindingLine) => number> = {
  severity: (a, b) => severities.indexOf(a.severity) - severities.indexOf(b.severity),
  newest: (a, b) => b.since - a.since,
  crossings: (a, b) => b.crossings - a.crossings,
  where: (a, b) => a.where.localeCompare(b.where),
}

/** Where somebody would mend it, in words. */
export function placeOf(f: FindingLine): string {
  switch (f.place) {
    case 'guard':
      return f.where.startsWith('the guard of ') ? f.where.replace('the ', '') : `guard of ${f.where}`
    case 'scheme':
      return f.where.replace('everything behind ', 'scheme ')
    default:
      return f.where
  }
}

function named(f: FindingLine, by: By): [string, boolean] {
  switch (by) {
    case 'place':
      return [placeOf(f), f.place !== 'service' && f.place !== 'none']
    case 'group':
      return [f.group, f.group.startsWith('/')]
    case 'kind':
      return [f.name, false]
    case 'cause':
      return [f.title, false]
    case 'state':
      return [f.state, false]
  }
}

/** Findings in groups: those first that have what asks for somebody, then as their first finding stands. */
export function grouped(list: FindingLine[], by: By, sort: Sorting): Group[] {
  const sorted = [...list].sort(
    (a, b) =>
      Number(asks(b.state)) - Number(asks(a.state)) ||
      orders[sort](a, b) ||
      kindOrder.indexOf(a.kind) - kindOrder.indexOf(b.kind) ||
      stateOrder.indexOf(a.state) - stateOrder.indexOf(b.state) ||
      a.where.localeCompare(b.where),
  )
  const groups = new Map<string, Group>()
  for (const f of sorted) {
    const [name, mono] = named(f, by)
    const g = groups.get(name) ?? { name, mono, says: '', list: [] }
    g.list.push(f)
    groups.set(name, g)
  }
  for (const g of groups.values()) {
    const routes = new Set(g.list.flatMap((f) => f.routes)).size
    const open = g.list.filter((f) => asks(f.state)).length
    g.says = [plural(routes, 'route'), open !== g.list.length && open > 0 ? `${open} to mend` : '']
      .filter(Boolean)
      .join(', ')
  }
  return [...groups.values()]
}

/** What became of a finding, in a few words. */
export function stateWords(f: FindingLine): string {
  switch (f.state) {
    case 'new':
      return `new in ${f.from}`
    case 'back again':
      return `back in ${f.from}`
    case 'open':
      return f.from === f.since ? `open since ${f.since}` : `back since ${f.from}`
    case 'not checked':
      return `not checked since ${f.checked}`
    case 'waived':
      return f.waived ? `waived until ${day(f.waived.until)}` : 'waived'
    case 'moved':
      return `moved in ${f.from}`
    case 'mended':
      return `mended in ${f.from}`
  }
}

/** The states of a finding at points, those before it was known left empty. */
export function strip(marks: State[], points: Point[]): (State | undefined)[] {
  const before = Math.max(0, points.length - marks.length)
  return [...Array<undefined>(before).fill(undefined), ...marks.slice(-points.length || undefined)]
}

/** Counts in words: "14 to mend in 6 places · 1 waived · 4 mended". */
export function counted(list: FindingLine[]): { words: string; q: string }[] {
  const open = list.filter((f) => asks(f.state))
  const places = new Set(open.map(placeOf)).size
  const out = [
    {
      words: open.length ? `${open.length} to mend in ${plural(places, 'place')}` : 'nothing to mend',
      q: 'state:new,back,open',
    },
  ]
  for (const s of states) {
    const n = list.filter((f) => f.state === s.state).length
    if (n && s.state !== 'open') out.push({ words: `${n} ${s.state}`, q: `state:${s.word}` })
  }
  return out
}

/** Whether it has been gone for longer than the strip shows. */
export function longGone(f: FindingLine): boolean {
  return f.marks.every((m) => m === 'mended' || m === 'moved')
}
