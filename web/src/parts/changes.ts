import type { Effect } from '../api/client'

/** What the pending text does, in a sentence. */
export function summary(e: Pick<Effect, 'total' | 'opens' | 'closes' | 'other' | 'added' | 'gone'>): string {
  if (!e.total && !e.added.length && !e.gone.length) return 'No crossing changes.'
  const parts = []
  if (e.closes) parts.push(`${e.closes} close`)
  if (e.opens) parts.push(`${e.opens} open`)
  if (e.other) parts.push(e.other === 1 ? '1 is refused another way' : `${e.other} are refused another way`)
  let s = `${e.total} ${e.total === 1 ? 'crossing changes' : 'crossings change'}${parts.length ? ': ' + parts.join(', ') : ''}.`
  if (e.added.length) s += ` ${e.added.length} ${e.added.length === 1 ? 'route is' : 'routes are'} new.`
  if (e.gone.length) s += ` ${e.gone.length} ${e.gone.length === 1 ? 'route goes' : 'routes go'}.`
  return s
}
