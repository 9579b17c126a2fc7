import type { Effect } from '../api/client'
import { plural } from './words'

/** What one text does that another does not: of crossings, routes and, where it is known, findings. */
export type Changes = Pick<Effect, 'total' | 'opens' | 'closes' | 'other' | 'undecided' | 'added' | 'gone'> &
  Partial<Pick<Effect, 'pages' | 'waived' | 'reopened'>>

/** What the pending text does, in a sentence. */
export function summary(e: Changes): string {
  const findings = (list: string[] | undefined, what: string) =>
    list?.length ? ` ${list.length} ${list.length === 1 ? 'finding is' : 'findings are'} ${what}.` : ''
  const accepted = findings(e.waived, 'waived') + findings(e.reopened, 'waived no longer')
  const pages = e.pages ? `${plural(e.pages, 'crossing')} of pages ${e.pages === 1 ? 'changes' : 'change'}.` : ''
  if (!e.total && !e.added.length && !e.gone.length) return (pages || 'No crossing changes.') + accepted
  const parts = []
  if (e.closes) parts.push(`${e.closes} close`)
  if (e.opens) parts.push(`${e.opens} open`)
  if (e.other) parts.push(e.other === 1 ? '1 is refused another way' : `${e.other} are refused another way`)
  if (e.undecided) parts.push(e.undecided === 1 ? '1 is decided no longer' : `${e.undecided} are decided no longer`)
  let s = `${e.total} ${e.total === 1 ? 'crossing changes' : 'crossings change'}${parts.length ? ': ' + parts.join(', ') : ''}.`
  if (e.added.length) s += ` ${e.added.length} ${e.added.length === 1 ? 'route is' : 'routes are'} new.`
  if (e.gone.length) s += ` ${e.gone.length} ${e.gone.length === 1 ? 'route goes' : 'routes go'}.`
  return s + (pages && ` ${pages}`) + accepted
}
