import { expect, it } from 'vitest'
import { summary } from './changes'

it('says what a text does, of findings where it is known', () => {
  const none = { total: 0, opens: 0, closes: 0, other: 0, undecided: 0, added: [], gone: [] }
  expect(summary(none)).toBe('No crossing changes.')
  expect(summary({ ...none, waived: [], reopened: [] })).toBe('No crossing changes.')
  expect(summary({ ...none, pages: 1 })).toBe('1 crossing of pages changes.')
  expect(summary({ ...none, total: 1, opens: 1, pages: 2 })).toBe(
    '1 crossing changes: 1 open. 2 crossings of pages change.',
  )
  expect(summary({ ...none, waived: ['a'] })).toBe('No crossing changes. 1 finding is waived.')
  expect(summary({ ...none, total: 1, closes: 1, waived: ['a', 'b'], reopened: ['c'] })).toBe(
    '1 crossing changes: 1 close. 2 findings are waived. 1 finding is waived no longer.',
  )
  expect(summary({ ...none, total: 3, opens: 1, undecided: 2 })).toBe(
    '3 crossings change: 1 open, 2 are decided no longer.',
  )
})
