import { expect, it } from 'vitest'
import { named, type Leaf } from './answer'
import { alike } from './example'
import { chains } from './roles'
import { schemeText } from './scheme'
import { stateOf } from './states'

const role = (name: string, ...includes: string[]) => ({
  name,
  includes,
  holders: [],
  opens: 0,
  more: 0,
  line: 1,
})

it('draws roles as chains, each role once', () => {
  const rows = chains([role('observer'), role('operator', 'observer'), role('director', 'operator'), role('auditor')])
  expect(rows.map((r) => r.map((x) => x.name))).toEqual([['director', 'operator', 'observer'], ['auditor']])
  expect(
    chains([role('a', 'b', 'c'), role('b'), role('c')])
      .flat()
      .map((x) => x.name)
      .sort(),
  ).toEqual(['a', 'b', 'c'])
  expect(chains([role('a', 'b'), role('b', 'a')]).flat()).toHaveLength(2)
})

it('says how a credential fares', () => {
  const of = (state: 'never' | 'obtained' | 'refused' | 'missing', ends?: string) => ({
    scheme: 's',
    fill: [],
    state,
    why: state === 'refused' ? 'refused 401' : '',
    ends,
  })
  const now = Date.parse('2026-12-01T12:00:00Z')
  expect(stateOf(of('never'), now)).toEqual({ says: 'never tried', tone: 'none' })
  expect(stateOf(of('obtained', '2026-12-01T12:15:00Z'), now)).toEqual({ says: 'ends in 15 min', tone: 'good' })
  expect(stateOf(of('obtained', '2026-12-01T11:00:00Z'), now).says).toBe('ended since')
  expect(stateOf(of('obtained'), now)).toEqual({ says: 'let in', tone: 'good' })
  expect(stateOf(of('refused'), now)).toEqual({ says: 'refused 401', tone: 'bad' })
})

it('lays an answer out as lines that can be named', () => {
  const leaf = (list: Leaf[], pointer: string) => list.find((l) => l.pointer === pointer)
  const list = named('{"token":"‹token:1›","a/b":[1,{"x":null}],"user":{}}', [
    { name: 'access', pointer: '/token', there: true },
  ])
  expect(leaf(list, '/token')).toMatchObject({ name: 'token', value: '"‹token:1›"', is: 'access', depth: 0 })
  expect(leaf(list, '/a~1b/1/x')).toMatchObject({ value: 'null', depth: 2 })
  expect(leaf(list, '/user')).toMatchObject({ value: '{}' })
  expect(named('no JSON', [])).toEqual([])
})

it('writes a scheme', () => {
  const form = {
    kind: 'login' as const,
    route: 'POST /login',
    form: false,
    body: '{ "name": "{name}" }',
    at: '/token',
    field: 'X-Key',
  }
  expect(schemeText(form)).toBe(
    '{ kind: bearer, login: { send: "POST /login", json: {"name":"{name}"}, take: { access: "/token" } } }',
  )
  expect(schemeText({ ...form, body: 'no' })).toBe('')
  expect(schemeText({ ...form, route: '/login' })).toBe('')
  expect(schemeText({ ...form, kind: 'header' })).toBe('{ kind: api-key, in: header, name: X-Key }')
  expect(schemeText({ ...form, kind: 'cookie', field: 'sid' })).toBe(
    '{ kind: cookie, name: sid, login: { send: "POST /login", json: {"name":"{name}"} } }',
  )
})

it('says once what is alike of several requests', () => {
  const told = (path: string, o = {}) => ({ form: 'HAR', line: 1, method: 'GET', path, logs: false, unread: [], ...o })
  const list = [
    told('/login', { method: 'POST', whose: 'imre', logs: true }),
    told('/a', { whose: 'imre', proves: 'the token' }),
    told('/b', { whose: 'imre', proves: 'the token' }),
    told('/c', { whose: 'imre', proves: 'the token', unread: ['its body'] }),
    told('/d'),
  ]
  expect(alike(list as never).map((g) => [g.list.length, g.says])).toEqual([
    [1, 'HAR, imre logs in'],
    [2, 'HAR, imre proves itself with the token'],
    [1, 'HAR, imre proves itself with the token'],
    [1, 'HAR, nothing proves who calls'],
  ])
})
