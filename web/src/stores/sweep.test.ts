import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import type { Sweep, Tick } from '../api/client'
import { useSweep } from './sweep'

const tick = (kind: Tick['kind'], at = -1): Tick => ({
  at,
  probe: `${kind}${at}`,
  route: 'GET /a',
  caller: '',
  who: 'nobody',
  kind,
  reason: '',
})
const sweep = (o: Partial<Sweep> = {}): Sweep => ({
  id: 1,
  target: 't',
  revision: 1,
  state: 'running',
  partial: false,
  planned: 10,
  done: 0,
  pace: 0,
  left: 0,
  startedAt: '2026-11-29T00:00:00Z',
  note: '',
  ...o,
})
const answers = vi.hoisted<unknown[]>(() => [])
vi.mock('../api/client', async (original) => ({
  ...(await original<object>()),
  api: { GET: () => Promise.resolve({ data: answers.shift(), response: new Response() }) },
}))
beforeEach(() => {
  setActivePinia(createPinia())
  answers.length = 0
})

describe('a sweep', () => {
  it('counts the verdicts that land and keeps the gaps', () => {
    const s = useSweep()
    s.moved(sweep(), 't')
    s.land([tick('agrees'), tick('U')])
    s.land([tick('unproven')])
    expect(s.line.total).toBe(3)
    expect(s.line.gaps.map((g) => g.at)).toEqual([1])
  })
  it('begins its line anew, and ends once', () => {
    const s = useSweep()
    s.moved(sweep(), 't')
    s.land([tick('U')])
    expect(s.moved(sweep({ state: 'done' }), 't')).toBe(true)
    expect([s.running, s.last?.id, s.ends]).toEqual([null, 1, 1])
    s.moved(sweep({ id: 2 }), 't')
    expect(s.line.total).toBe(0)
  })
  it('does not come back by an answer from before its end', () => {
    const s = useSweep()
    s.moved(sweep(), 't')
    const heard = s.ends
    s.moved(sweep({ state: 'done' }), 't')
    s.seen(sweep(), heard)
    expect(s.running).toBeNull()
  })
  it('says why a target could not be checked, until the next begins', () => {
    const s = useSweep()
    s.moved(sweep({ state: 'failed', note: 'refused' }), 't')
    expect(s.failure).toBe('refused')
    s.moved(sweep({ id: 2 }), 't')
    expect(s.failure).toBe('')
  })
  it('reads the gaps of a target page by page, once', async () => {
    const s = useSweep()
    answers.push({ items: [tick('U', 4)], total: 900, next: '5' }, { items: [tick('P', 700)], total: 900 })
    await s.load('t')
    expect([s.line.total, s.line.gaps.map((g) => g.at)]).toEqual([900, [4, 700]])
    answers.push({ items: [], total: 0 })
    await s.load('t')
    expect(s.line.total).toBe(900)
  })
  it('keeps what landed while it was read', async () => {
    const s = useSweep()
    answers.push({ items: [tick('U', 4)], total: 5 })
    const reading = s.load('t')
    s.land([tick('U', 4), tick('P')])
    await reading
    expect([s.line.total, s.line.gaps.map((g) => [g.at, g.tick.kind])]).toEqual([
      6,
      [
        [4, 'U'],
        [5, 'P'],
      ],
    ])
  })
  it('asks for a verdict that is not known, once', async () => {
    const s = useSweep()
    answers.push({ items: [tick('U', 4)], total: 900 }, { items: [tick('agrees', 7)], total: 900 })
    await s.load('t')
    expect((await s.at(4, 't'))?.kind).toBe('U')
    expect((await s.at(7, 't'))?.kind).toBe('agrees')
    expect((await s.at(7, 't'))?.kind).toBe('agrees')
    expect(await s.at(900, 't')).toBeNull()
  })
})
