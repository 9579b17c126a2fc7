import { worst } from '../../theme/kinds'
import { headOf, shown, type Head, type Lens } from '../lens'

/** Who gets in: nobody, then identities by role. Those that the declaration cannot tell apart are
 * folded into one column until somebody opens it. */
export const access: Lens = {
  id: 'access',
  name: 'Access',
  question: 'who gets in?',
  heads(b, open) {
    const out: Head[] = []
    const done = new Set<number>()
    b.columns.forEach((c, i) => {
      if (c.class < 0 || c.members === 1 || open.has(c.class)) {
        out.push(headOf(c, i))
        return
      }
      if (done.has(c.class)) return
      done.add(c.class)
      const same = b.columns.flatMap((o, k) => (o.class === c.class ? [k] : []))
      out.push({ key: c.key, label: c.sub || c.label, sub: `× ${same.length}`, columns: same, folded: true })
    })
    return out
  },
  cell(r, h) {
    const one = h.columns.length === 1
    const seen = h.columns.map((i) => r.access[i])
    const first = shown(seen[0])
    first.pending = !!r.pending && h.columns.some((i) => r.pending!.has(i))
    if (one) return first
    first.found = worst(seen.map((c) => c?.found ?? 'unprobed'))
    first.severity = seen.find((c) => c?.found === first.found)?.severity
    first.inferred = seen.every((c) => c?.inferred)
    return first
  },
}
