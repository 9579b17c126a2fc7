import { worst } from '../../theme/kinds'
import { shown, type Lens } from '../lens'

/** How often? */
export const quotas: Lens = {
  id: 'quotas',
  name: 'Quotas',
  question: 'how often?',
  heads: (b) =>
    b.kinds.map((k, i) => {
      const names = b.quotas.filter((q) => q.column === i).map((q) => q.name)
      return {
        key: `counted:${k}`,
        label: k,
        sub: names.join(', '),
        columns: [],
        folded: false,
        index: i,
        title: `counted by ${k}: ${names.join(', ')}`,
      }
    }),
  cell(r, h) {
    const here = r.quotas.filter((q) => q.column === h.index)
    const none = { ...shown(undefined), expected: 'no limit of this kind' }
    // A route that nothing counts stands out, once in its row.
    if (!r.quotas.length && h.index === 0 && r.declared)
      return { ...none, gate: 'uncounted', expected: 'no quota counts it at all', bar: -1 }
    if (!here.length) return none
    return {
      ...none,
      gate: 'quota',
      expected: 'no more than its quota',
      found: worst(here.map((q) => q.found)),
      bar: Math.max(...here.map((q) => (q.most >= 0 && q.ceiling > 0 ? q.most / q.ceiling : -1))),
    }
  },
}
