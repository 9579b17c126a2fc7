import { describe, expect, it } from 'vitest'
import type { Board, Row } from '../api/client'
import { follow, none } from './rows'

const quota = (most: number) => ({
  name: 'login',
  column: 0,
  declared: 5,
  window: 60,
  ceiling: 5,
  most,
  found: 'unprobed' as const,
})
const row = (key: string, cell: number, counted: number[] = []): Row => ({
  key,
  method: 'GET',
  host: '',
  path: key,
  prefix: '/',
  group: '',
  sensitivity: 'medium',
  summary: '',
  line: 1,
  file: 'x',
  declared: true,
  access: [cell],
  tokens: [],
  origins: [],
  counted,
  tokenCaller: '',
})
const board = (o: Partial<Board>): Board => ({
  title: '',
  file: 'x',
  revision: 1,
  keptAt: '',
  target: 't',
  targets: ['t'],
  columns: [],
  ways: [],
  pages: [],
  kinds: [],
  quotas: [quota(-1)],
  cells: [
    { expect: 'refuse', found: 'unprobed', inferred: false },
    { expect: 'refuse', found: 'U', severity: 'high', inferred: false },
  ],
  rows: [],
  version: 'k.1',
  whole: true,
  total: 2,
  notFair: 0,
  counts: { crossings: {}, findings: {} },
  review: 0,
  errors: 0,
  empty: false,
  ...o,
})

describe('following a board', () => {
  const first = follow(none, board({ rows: [row('/a', 0), row('/b', 0, [0])] }))!

  it('puts cells in place of their indexes', () => {
    expect(first.list.map((r) => r.access[0]!.found)).toEqual(['unprobed', 'unprobed'])
    expect(first.list[1]!.quotas[0]!.name).toBe('login')
  })
  it('takes in what changed and leaves all else the same object', () => {
    const next = follow(first, board({ whole: false, version: 'k.2', rows: [row('/a', 1)] }))!
    expect(next.list[0]!.access[0]!.found).toBe('U')
    expect(next.list[1]).toBe(first.list[1])
    expect(next.version).toBe('k.2')
  })
  it('keeps the list where nothing changed', () => {
    expect(follow(first, board({ whole: false }))!.list).toBe(first.list)
  })
  it('gives rows what is known of their quotas now', () => {
    const next = follow(first, board({ whole: false, quotas: [quota(3)] }))!
    expect(next.list[1]!.quotas[0]!.most).toBe(3)
    expect(next.list[0]).toBe(first.list[0])
  })
  it('asks for the whole board where rows are missing or unknown', () => {
    expect(follow(none, board({ whole: false }))).toBeNull()
    expect(follow(first, board({ whole: false, total: 3 }))).toBeNull()
    expect(follow(first, board({ whole: false, rows: [row('/c', 0)] }))).toBeNull()
  })
})
