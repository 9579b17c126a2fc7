import { expect, it } from 'vitest'
import { columns } from './columns'

it('folds callers who meet the same everywhere, and never nobody', () => {
  const group = (...marks: ('in' | 'some' | 'away' | 'unknown')[]) => ({
    id: 'g',
    title: '',
    says: '',
    odd: '',
    why: '',
    marks,
    on: marks.map(() => ''),
    routes: [],
    entry: '',
    guessed: '',
    confirmed: false,
  })
  const of = {
    callers: ['', 'ann', 'bob', 'meg'],
    groups: [group('in', 'in', 'in', 'in'), group('away', 'some', 'some', 'in')],
  }
  expect(columns(of).map((c) => [c.label, c.at])).toEqual([
    ['nobody', 0],
    ['ann +1', 1],
    ['meg', 3],
  ])
  const differ = { ...of, groups: of.groups.map((g) => ({ ...g, on: ['', 'for an own record', 'for another', ''] })) }
  expect(columns(differ)).toHaveLength(4)
  expect(columns({ callers: ['', 'ann'], groups: [group('in', 'in')] })).toHaveLength(2)
})
