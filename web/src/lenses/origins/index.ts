import { shown, type Lens } from '../lens'

/** A declared origin's first label tells it from the others. */
function named(origin: string): { label: string; sub: string } {
  const host = origin.replace(/^https:\/\//, '')
  const cut = host.includes('://') ? -1 : host.indexOf('.')
  return cut > 0 ? { label: host.slice(0, cut), sub: host.slice(cut) } : { label: host, sub: 'declared' }
}

/** Which pages can call? A gate is drawn alike where the same comes of it: nothing is a bar that is
 * down, reading one that is up. */
export const origins: Lens = {
  id: 'origins',
  name: 'Origins',
  question: 'which pages can call?',
  heads: (b) =>
    b.pages.map((p, i) => ({
      key: `origin:${p.id}`,
      ...(p.hostile ? { label: p.id, sub: 'hostile' } : named(p.origin)),
      columns: [],
      folded: false,
      index: i,
      title: p.hostile ? `${p.says}: ${p.origin}` : p.origin,
    })),
  cell: (r, h) => ({ ...shown(r.origins[h.index ?? 0]), pending: !!r.pendingPages?.has(h.index ?? 0) }),
}
