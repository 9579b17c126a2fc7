import type { Cell as Seen, PagesLook } from '../../api/client'
import type { ShownRow } from '../lens'
import type { Shown } from '../../stores/workspace'

const unseen: Seen = { expect: 'absent', found: 'unprobed', inferred: false }

/** A board with the pages of a text that is not kept yet, and what these may do by it. */
export function withPages(b: Shown, look: PagesLook): Shown {
  const at = new Map(b.pages.map((p, i) => [p.id, i]))
  const same = look.pages.length === b.pages.length && look.pages.every((p, i) => at.get(p.id) === i)
  if (same && !look.turned.length) return b
  const turned = new Map<string, Map<string, PagesLook['turned'][number]>>()
  for (const t of look.turned) turned.set(t.route, (turned.get(t.route) ?? new Map()).set(t.page, t))
  const rows: ShownRow[] = b.rows.map((r) => {
    const mine = turned.get(r.key)
    if (same && !mine) return r
    const pendingPages = new Set<number>()
    const origins = look.pages.map((p, i) => {
      const cell = r.origins[at.get(p.id) ?? -1] ?? unseen
      const t = mine?.get(p.id)
      if (!t) return cell
      if (t.was !== t.becomes) pendingPages.add(i)
      return { ...cell, expect: t.becomes }
    })
    return { ...r, origins, pendingPages }
  })
  return { ...b, pages: look.pages, rows }
}

const words: [string, string][] = [
  ['read-as-user', 'reads as the user'],
  ['read', 'reads'],
  ['send', 'sends blindly'],
  ['nothing', 'can do nothing'],
]

/** What a page can do at how many routes; with an arrow where a text changes it. */
export function counts(p: PagesLook['pages'][number]): string {
  return words
    .map(([w, says]) => [says, p.was[w] ?? 0, p.now[w] ?? 0] as const)
    .filter(([, was, now]) => was || now)
    .map(([says, was, now]) => `${says} ${was === now ? now : `${was} → ${now}`}`)
    .join(', ')
}

/** What changes, and for which pages it is the same. */
export function turnedPages(look: PagesLook): { says: string; pages: PagesLook['pages'] }[] {
  const ids = new Set(look.turned.filter((t) => t.was !== t.becomes).map((t) => t.page))
  const by = new Map<string, PagesLook['pages']>()
  for (const p of look.pages.filter((p) => ids.has(p.id))) by.set(counts(p), [...(by.get(counts(p)) ?? []), p])
  return [...by].map(([says, pages]) => ({ says, pages }))
}
