import { expect, test } from 'vitest'
import type { Sequence } from '../api/client'
import { steps } from './order'

const pair = (first: Sequence['first'], then: Sequence['then']): Sequence => ({ first, then, says: '' })

test.each<[string, Sequence[], Sequence['first'][][]]>([
  ['nothing', [], []],
  ['one', [pair('credential', 'body')], [['credential'], ['body']]],
  [
    'what is not told apart stands in one step',
    [pair('credential', 'body'), pair('credential', 'record')],
    [['credential'], ['body', 'record']],
  ],
  [
    'whatever the order of the pairs',
    [pair('role', 'record'), pair('credential', 'role'), pair('page', 'credential'), pair('credential', 'record')],
    [['page'], ['credential'], ['role'], ['record']],
  ],
])('the steps of %s', (_, list, want) => {
  expect(steps(list)).toEqual(want)
})

test('pairs that contradict each other have an end', () => {
  expect(steps([pair('body', 'credential'), pair('credential', 'body')]).flat()).toHaveLength(2)
})
