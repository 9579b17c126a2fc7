import { expect, it } from 'vitest'
import { wrote } from './wrote'

it('shows the lines that an edit wrote', () => {
  expect(wrote('a\nb\nc', 'a\nx\nc')).toEqual(['x'])
  expect(wrote('a\nb', 'a\nx\ny\nb')).toEqual(['x', 'y'])
  expect(wrote('', 'a\nb')).toEqual(['a', 'b'])
  expect(wrote('a\nb\nb', 'a\nb\nb\nb')).toEqual(['b'])
  expect(wrote('a\nb\nc', 'a\nc')).toEqual([])
  expect(wrote('a', 'a')).toEqual([])
})
