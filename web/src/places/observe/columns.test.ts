import { expect, it } from 'vitest'
import { columns } from './columns'

it('folds callers who meet the same everywhere, and never nobody', () => {
  const group = (...marks: ('in' | 'own' | 'away' | 'unknown')[]) => ({
    id: 'g',
    title: '',
    says: '',
    odd: '',
    why: '',
    marks,
    routes: [],
    entry: '',
    guessed: '',
    confirmed: false,
  })
  const of = {
    callers: ['', 'ann', 'bob', 'meg'],
    groups: [group('in', 'in', 'in', 'in'), group('away', 'own', 'own', 'in')],
  }
  expect(columns(of).map((c) => [c.label, c.at])).toEqual([
    ['nobody', 0],
    ['ann +1', 1],
    ['meg', 3],
  ])
  expect(columns({ callers: ['', 'ann'], groups: [group('in', 'in')] })).toHaveLength(2)
})
