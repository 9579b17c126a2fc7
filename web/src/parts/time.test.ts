import { describe, expect, it } from 'vitest'
import { ago, clock, span } from './time'

describe('instants on an axis', () => {
  it.each([
    [0, 600, '0'],
    [0.25, 0.5, '250 ms'],
    [1.25, 60, '1.25 s'],
    [90, 600, '1:30 min'],
    [125, 600, '2:05 min'],
    [5400, 7200, '1:30 h'],
    [90000, 864000, '1 d 1 h'],
  ])('%f of %f is %s', (s, longest, want) => expect(clock(s, longest)).toBe(want))
  it('tells neighbours apart', () => {
    const marks = Array.from({ length: 24 }, (_, i) => clock(i * 25, 600))
    expect(new Set(marks).size).toBe(24)
  })
})

it('says lengths and ages as people do', () => {
  expect([span(0.4), span(40), span(600), span(7200)]).toEqual(['under 1 s', '40 s', '10 min', '2 h'])
  const now = Date.parse('2026-11-29T12:00:00Z')
  expect(ago('2026-11-29T11:59:55Z', now)).toBe('just now')
  expect(ago('2026-11-29T11:30:00Z', now)).toBe('30 min ago')
  expect(ago(undefined, now)).toBe('')
})
