/** The kinds of gap, worst first, with their names in full. */
export const kinds: { letter: string; name: string; means: string }[] = [
  {
    letter: 'U',
    name: 'unprotected',
    means: 'Somebody gets in without proving who they are, or with a proof that does not hold',
  },
  { letter: 'P', name: 'over-permissive', means: 'A known caller gets in who must not' },
  { letter: 'T', name: 'unthrottled', means: 'More calls get through than the quota lets' },
  { letter: 'L', name: 'leaking', means: 'An answer shows what must never be shown' },
  { letter: 'X', name: 'undeclared', means: 'Something is served that the inventory does not have' },
  { letter: 'S', name: 'lifetime', means: 'A credential lives longer than declared' },
  { letter: 'K', name: 'weak token', means: 'A token is weaker than declared' },
  { letter: 'R', name: 'over-restrictive', means: 'A caller is turned away who must get in' },
  { letter: 'W', name: 'wrong refusal', means: 'A caller is turned away, but not in the way declared' },
]

const byLetter = new Map(kinds.map((k) => [k.letter, k]))

export function kindName(letter: string): string {
  return byLetter.get(letter)?.name ?? letter
}

export function isGap(kind: string): boolean {
  return byLetter.has(kind)
}
