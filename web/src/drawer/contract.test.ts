import { expect, it } from 'vitest'
import { contractOf } from './contract'

it('reads what errors could have to be like', () => {
  const answer = [
    { name: 'content-type', value: 'Application/Problem+JSON; charset=utf-8' },
    { name: 'WWW-Authenticate', value: 'Bearer' },
    { name: 'Retry-After', value: '3' },
  ]
  const c = contractOf({ status: 401, answer, content: '{"type":"x","a/b":1}' })
  expect(c).toEqual({ type: 'application/problem+json', headers: ['WWW-Authenticate'], has: ['/type', '/a~1b'] })
  expect(contractOf({ status: 404, answer, content: '<html>' })).toMatchObject({ headers: [], has: [] })
  expect(contractOf({ status: 404, answer: [], content: '[1]' })).toEqual({ type: '', headers: [], has: [] })
})
