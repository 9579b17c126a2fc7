import { describe, expect, it } from 'vitest'
import type { ShownRow } from '../lenses'
import { access } from '../lenses/access'
import type { Shown } from '../stores/workspace'
import { completions, parse } from './filter'

const row = (key: string, o: Partial<ShownRow> = {}): ShownRow => ({
  key,
  method: key.split(' ')[0]!,
  host: '',
  path: key.split(' ')[1]!,
  prefix: '/v1',
  group: '',
  effect: 'read',
  sensitivity: 'low',
  summary: '',
  line: 1,
  file: '',
  declared: true,
  tokenCaller: '',
  access: [
    { expect: 'refuse', found: 'agrees', inferred: false },
    { expect: 'admit', found: 'agrees', inferred: false },
  ],
  tokens: [],
  origins: [],
  quotas: [],
  ...o,
})
const rows = [
  row('GET /v1/dome'),
  row('POST /v1/dome/slew', {
    effect: 'command',
    sensitivity: 'high',
    worst: 'P',
    summary: 'Turn the dome',
    access: [
      { expect: 'refuse', found: 'unproven', inferred: false },
      { expect: 'refuse', found: 'P', severity: 'high', inferred: false },
    ],
  }),
]
const b = {
  columns: [
    { key: '', label: 'nobody', sub: '', class: -1, members: 1, roles: [] },
    { key: 'imre', label: 'imre', sub: 'observer', class: 0, members: 1, roles: ['observer'] },
  ],
  rows,
} as unknown as Shown
const heads = access.heads(b, new Set())
const left = (text: string) => {
  const f = parse(text, b, access, heads)
  return { rows: rows.filter((r) => f.row(r)).map((r) => r.key), heads: heads.filter((h) => f.head(h)).length, ...f }
}

describe('the filter', () => {
  it.each([
    ['', 2],
    ['slew', 1],
    ['turn', 1],
    ['gap:over-permissive', 1],
    ['gap:P', 1],
    ['gap:unprotected', 0],
    ['gap:unprotected,over-permissive', 1],
    ['method:post', 1],
    ['effect:read,command', 2],
    ['sensitivity:high', 1],
    ['unproven', 1],
    ['unprobed', 0],
    ['method:get slew', 0],
  ])('%s leaves %i rows', (text, many) => expect(left(text).rows).toHaveLength(many))
  it('takes columns by caller and role', () => {
    expect(left('role:observer').heads).toBe(1)
    expect(left('caller:NOB').heads).toBe(1)
    expect(left('role:pilot').heads).toBe(0)
  })
  it('looks for gaps among the columns that are left', () => {
    expect(left('caller:nobody gap:P').rows).toEqual(['POST /v1/dome/slew']) // its worst one
    expect(left('caller:imre unproven').rows).toEqual([])
  })
  it('says which words mean nothing', () => {
    expect(left('gap:nonsense').wrong).toEqual(['gap:nonsense'])
    expect(left('gap:nonsense').rows).toHaveLength(2)
    expect(left('gaps').quiet).toBe(true)
  })
  it('completes words and their values', () => {
    expect(completions('gap:un', b)).toEqual(['gap:unprotected', 'gap:unthrottled', 'gap:undeclared'])
    expect(completions('slew role:', b)).toEqual(['slew role:observer'])
    expect(completions('', b)).toContain('gap:')
  })
})
