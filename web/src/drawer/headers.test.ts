import { expect, test } from 'vitest'
import { headersIn, unreadable } from './headers'

test('header fields stand one a line', () => {
  expect(headersIn('Accept: text/html\n\n x-empty:\nX-Url: http://a:1/b')).toEqual([
    { name: 'Accept', value: 'text/html' },
    { name: 'x-empty', value: '' },
    { name: 'X-Url', value: 'http://a:1/b' },
  ])
  expect(headersIn('')).toEqual([])
})

test('a line that is none is named', () => {
  expect(unreadable('Accept: a\nno field\nalso not')).toBe('no field')
  expect(unreadable('bad name: x')).toBe('bad name: x')
  expect(unreadable('Accept: a')).toBe('')
})
