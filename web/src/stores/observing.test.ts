import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { useObserving } from './observing'

const states: string[] = []
vi.mock('../api/client', () => ({
  api: { POST: () => Promise.resolve() },
  ask: () => Promise.resolve({ state: states.shift() ?? 'done', done: 3, planned: 9 }),
  message: String,
}))
const read = { target: 't', done: 4, planned: 9, ended: false }

describe('what is observed', () => {
  beforeEach(() => {
    states.length = 0
    setActivePinia(createPinia())
  })

  it('follows what runs', async () => {
    states.push('running')
    const o = useObserving()
    await o.look('t', '')
    expect(o.progress).toEqual({ done: 3, planned: 9 })
    o.moved(read)
    expect(o.progress).toEqual({ done: 4, planned: 9 })
    o.moved({ ...read, target: 'another', done: 5 })
    expect(o.progress).toEqual({ done: 4, planned: 9 })
    o.moved({ ...read, ended: true })
    await vi.waitFor(() => expect(o.progress).toBeNull())
  })

  it('brings no progress back when word of a read comes after the end', async () => {
    const o = useObserving()
    await o.look('t', '')
    o.moved(read)
    expect(o.progress).toBeNull()
    await vi.waitFor(() => expect(o.seen?.state).toBe('done'))
    expect(o.progress).toBeNull()
  })

  it('sees one that began in another window', async () => {
    states.push('done', 'running')
    const o = useObserving()
    await o.look('t', '')
    o.moved(read)
    o.moved(read) // asked once, not for each read
    await vi.waitFor(() => expect(o.progress).toEqual({ done: 3, planned: 9 }))
  })
})
