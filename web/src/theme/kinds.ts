import type { Kind } from '../api/client'

/** The kinds of gap, worst first, with their names in full. */
export const kinds: { kind: Kind; name: string; means: string }[] = [
  {
    kind: 'U',
    name: 'unprotected',
    means: 'Somebody gets in without proving who they are, or with a proof that does not hold',
  },
  { kind: 'P', name: 'over-permissive', means: 'A known caller gets in who must not' },
  { kind: 'T', name: 'unthrottled', means: 'More calls get through than the quota lets' },
  { kind: 'L', name: 'leaking', means: 'An answer shows what must never be shown' },
  { kind: 'X', name: 'undeclared', means: 'Something is served that the inventory does not have' },
  { kind: 'S', name: 'lifetime', means: 'A credential lives longer than declared' },
  { kind: 'K', name: 'weak token', means: 'A token is weaker than declared' },
  { kind: 'R', name: 'over-restrictive', means: 'A caller is turned away who must get in' },
  { kind: 'W', name: 'wrong refusal', means: 'A caller is turned away, but not in the way declared' },
]

const gaps = new Map(kinds.map((k) => [k.kind, k]))
const order: Kind[] = [...kinds.map((k) => k.kind), 'unproven', 'unprobed', 'agrees']

export function kindName(kind: Kind): string {
  return gaps.get(kind)?.name ?? kind
}

export function isGap(kind: Kind): boolean {
  return gaps.has(kind)
}

/** The worst of several verdicts; of none, that all agrees. */
export function worst(list: Kind[]): Kind {
  return list.reduce((a, b) => (order.indexOf(b) < order.indexOf(a) ? b : a), 'agrees')
}

/** The colour of a kind of gap: some share one. */
export function kindColour(kind: Kind): string {
  const shared: Partial<Record<Kind, Kind>> = { S: 'X', K: 'X', R: 'W' }
  return `var(--${shared[kind] ?? kind})`
}
