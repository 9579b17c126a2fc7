import type { CallerCredential } from '../../api/client'
import { span } from '../../parts/time'

/** How a credential fares, in a few words, with the colour of its dot. */
export function stateOf(c: CallerCredential, now: number): { says: string; tone: 'good' | 'bad' | 'none' } {
  switch (c.state) {
    case 'never':
      return { says: 'never tried', tone: 'none' }
    case 'missing':
      return { says: 'its secret is missing', tone: 'bad' }
    case 'refused':
      return { says: c.why || 'refused', tone: 'bad' }
    default: {
      if (!c.ends) return { says: 'let in', tone: 'good' }
      const left = (new Date(c.ends).getTime() - now) / 1000
      return left > 0 ? { says: `ends in ${span(left)}`, tone: 'good' } : { says: 'ended since', tone: 'none' }
    }
  }
}
