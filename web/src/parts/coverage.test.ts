import { expect, it } from 'vitest'
import { all, checked } from './coverage'

it('never says that all was checked where something was not', () => {
  const share = (proven: number, inferred: number, left: number) => ({
    name: 'x',
    proven,
    inferred,
    unproven: 0,
    unsent: 0,
    left,
    undecided: 0,
  })
  expect(checked(share(999, 0, 1))).toBe(99)
  expect(checked(share(1, 0, 999))).toBe(1)
  expect(checked(share(0, 0, 5))).toBe(0)
  expect(checked(share(3, 3, 2))).toBe(75)
  expect(checked(share(0, 0, 0))).toBe(100)
  expect(all(share(3, 3, 2))).toBe(8)
  expect(checked({ ...share(5, 0, 0), undecided: 5 })).toBe(50)
})
