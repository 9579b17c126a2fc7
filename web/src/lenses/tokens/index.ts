import { shown, type Lens } from '../lens'

/** What does the lock accept? */
export const tokens: Lens = {
  id: 'tokens',
  name: 'Tokens',
  question: 'what does the lock accept?',
  heads: (b) =>
    b.ways.map((w, i) => ({ key: `credential:${w}`, label: w, sub: '', columns: [], folded: false, index: i })),
  cell: (r, h) => shown(r.tokens[h.index ?? 0]),
}
