import type { Event } from './client'

/** Listens to what happens, and connects again by itself; `again` is called
 * after every connection but the first, when events may have been missed. */
export function listen(on: (e: Event) => void, again: () => void, state: (up: boolean) => void): () => void {
  const source = new EventSource('/api/events')
  let opened = 0
  source.onopen = () => {
    state(true)
    if (opened++ > 0) again()
  }
  source.onerror = () => state(false)
  source.onmessage = (m) => on(JSON.parse(m.data as string) as Event)
  return () => source.close()
}
