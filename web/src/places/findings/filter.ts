import type { FindingLine, State } from '../../api/client'
import { kinds } from '../../theme/kinds'

/** The states, those first that ask for somebody. */
export const states: { state: State; word: string; means: string }[] = [
  { state: 'new', word: 'new', means: 'A gap, and it never was one before' },
  { state: 'back again', word: 'back', means: 'A gap that had been mended, or moved, before' },
  { state: 'open', word: 'open', means: 'A gap, as when it was checked last' },
  {
    state: 'not checked',
    word: 'not-checked',
    means: 'The last sweep cannot say: a probe of it was left out, is unproven, or is not planned any more',
  },
  { state: 'waived', word: 'waived', means: 'A gap that somebody accepted until a day' },
  {
    state: 'moved',
    word: 'moved',
    means: 'No gap any more because something else is declared; the service may do what it did',
  },
  {
    state: 'mended',
    word: 'mended',
    means: 'Its probes were judged again, none shows a gap, and the same is expected',
  },
]

/** Whether a finding asks for somebody: it is there, and nobody accepted it. */
export function asks(s: State): boolean {
  return s === 'new' || s === 'back again' || s === 'open'
}

export const severities = ['critical', 'high', 'medium', 'low']
const keys = ['state', 'severity', 'kind', 'confidence', 'route', 'group', 'caller', 'rung', 'place', 'since']

const has = (text: string, word: string) => text.toLowerCase().includes(word)
const tests: Record<string, (f: FindingLine, v: string) => boolean> = {
  state: (f, v) => states.some((s) => s.word === v && s.state === f.state),
  severity: (f, v) => f.severity === v,
  kind: (f, v) => f.kind.toLowerCase() === v || f.name.replace(' ', '-') === v,
  confidence: (f, v) => f.confidence === v,
  route: (f, v) => f.routes.some((r) => has(r, v)),
  group: (f, v) => f.group.toLowerCase() === v,
  caller: (f, v) => f.callers.some((c) => has(c, v)),
  rung: (f, v) => String(f.rung) === v,
  place: (f, v) => f.place === v,
  since: (f, v) => f.since >= Number(v),
}
const known: Record<string, (v: string) => boolean> = {
  state: (v) => states.some((s) => s.word === v),
  severity: (v) => severities.includes(v),
  kind: (v) => kinds.some((k) => k.kind.toLowerCase() === v || k.name.replace(' ', '-') === v),
  confidence: (v) => ['proven', 'likely', 'unproven'].includes(v),
  rung: (v) => /^[0-7]$/.test(v),
  since: (v) => /^\d+$/.test(v),
}

export interface FindingFilter {
  test(f: FindingLine): boolean
  names(key: string): boolean // whether it says something of that
  wrong: string[] // words that mean nothing
}

/** Reads "state:new,back severity:high /v1/frames": all words must hold; several values of one key, joined by a
 * comma, are alternatives. */
export function parse(text: string): FindingFilter {
  const list: ((f: FindingLine) => boolean)[] = []
  const wrong: string[] = []
  const named = new Set<string>()
  for (const word of text.trim().split(/\s+/).filter(Boolean)) {
    const [, key, value] = /^([a-z]+):(.*)$/.exec(word) ?? []
    if (!key || !keys.includes(key)) {
      const w = word.toLowerCase()
      list.push((f) => has(f.title, w) || has(f.where, w) || f.id.startsWith(w) || f.routes.some((r) => has(r, w)))
      continue
    }
    const values = (value ?? '').toLowerCase().split(',').filter(Boolean)
    if (!values.length) continue
    named.add(key)
    if (values.some((v) => known[key] && !known[key](v))) wrong.push(word)
    list.push((f) => values.some((v) => tests[key]!(f, v)))
  }
  return { test: (f) => list.every((t) => t(f)), names: (k) => named.has(k), wrong }
}

/** What could follow in the filter line. */
export function completions(text: string, list: FindingLine[]): string[] {
  const at = text.lastIndexOf(' ') + 1
  const [before, word] = [text.slice(0, at), text.slice(at)]
  if (!word) return keys.map((k) => `${before}${k}:`)
  const one = (of: (f: FindingLine) => string[]) => [...new Set(list.flatMap(of))]
  const values: Record<string, () => string[]> = {
    state: () => states.map((s) => s.word),
    severity: () => severities,
    kind: () => one((f) => [f.name.replace(' ', '-')]),
    confidence: () => one((f) => [f.confidence]),
    route: () => one((f) => f.routes.map((r) => r.split(' ')[1] ?? r)),
    group: () => one((f) => [f.group]).filter((g) => !g.includes(' ')),
    caller: () => one((f) => f.callers.map((c) => c.split(' ')[0]!)),
    rung: () => one((f) => [String(f.rung)]),
    place: () => one((f) => [f.place]),
    since: () => one((f) => [String(f.since)]),
  }
  return keys
    .filter((k) => word.startsWith(`${k}:`) || k.startsWith(word))
    .flatMap((k) => values[k]!().map((v) => `${k}:${v}`))
    .filter((w) => w.startsWith(word) && w !== word)
    .slice(0, 12)
    .map((w) => before + w)
}
