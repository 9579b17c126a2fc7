import type { Event } from './client'

/** Listens to what happens. A connection that breaks is made again and goes on where it was; where
 * that is not known any more, an event says so. */
export function listen(on: (e: Event) => void, state: (up: boolean) => void): () => void {
  const source = new EventSource('/api/events')
  source.onopen = () => state(true)
  source.onerror = () => state(false)
  source.onmessage = (m) => on(JSON.parse(m.data as string) as Event)
  return () => source.close()
}
