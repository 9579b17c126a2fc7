import { describe, expect, it } from 'vitest'
import type { Cell } from '../api/client'
import type { Shown } from '../stores/workspace'
import { lenses, type ShownRow } from '.'
import { access } from './access'
import { declared } from './lens'
import { quotas } from './quotas'

const cell = (o: Partial<Cell> = {}): Cell => ({ expect: 'refuse', found: 'agrees', inferred: false, ...o })
const row = (o: Partial<ShownRow>): ShownRow => ({
  key: 'GET /a',
  method: 'GET',
  host: '',
  path: '/a',
  prefix: '/',
  group: '',
  sensitivity: 'low',
  summary: '',
  line: 1,
  file: '',
  declared: true,
  tokenCaller: '',
  access: [],
  tokens: [],
  origins: [],
  quotas: [],
  ...o,
})
const column = (key: string, kind: number, members: number) => ({
  key,
  label: key || 'nobody',
  sub: key ? 'observer' : '',
  class: kind,
  members,
  roles: [],
})

describe('the Access lens', () => {
  const b = {
    columns: [column('', -1, 1), column('a', 0, 2), column('b', 0, 2), column('c', 1, 1)],
  } as unknown as Shown
  it('folds callers that cannot be told apart, until they are opened', () => {
    expect(access.heads(b, new Set()).map((h) => [h.label, h.columns])).toEqual([
      ['nobody', [0]],
      ['observer', [1, 2]],
      ['c', [3]],
    ])
    expect(access.heads(b, new Set([0]))).toHaveLength(4)
  })
  it('shows the worst of a folded column, with its severity', () => {
    const [, folded] = access.heads(b, new Set())
    const r = row({ access: [cell(), cell(), cell({ found: 'P', severity: 'low', inferred: true }), cell()] })
    expect(access.cell(r, folded!)).toMatchObject({ found: 'P', severity: 'low', inferred: false, gate: 'shut' })
  })
  it('marks what a pending edit changes', () => {
    const [nobody, folded] = access.heads(b, new Set())
    const r = row({ access: [cell(), cell(), cell(), cell()], pending: new Set([2]) })
    expect(access.cell(r, nobody!).pending).toBe(false)
    expect(access.cell(r, folded!).pending).toBe(true)
  })
})

describe('the Quotas lens', () => {
  const q = (column: number, most: number, found: Cell['found'] = 'agrees') => ({
    name: 'q',
    column,
    declared: 5,
    window: 60,
    ceiling: 10,
    most,
    found,
  })
  const head = (index: number) => ({ key: 'counted:x', label: '', sub: '', columns: [], folded: false, index })
  it('measures against the ceiling, the fullest of several', () => {
    const c = quotas.cell(row({ quotas: [q(0, 5), q(0, 20, 'T'), q(1, 0)] }), head(0))
    expect(c).toMatchObject({ gate: 'quota', bar: 2, found: 'T' })
  })
  it('shows a route that nothing counts once', () => {
    expect(quotas.cell(row({}), head(0)).gate).toBe('uncounted')
    expect(quotas.cell(row({}), head(1)).gate).toBe('nothing')
    expect(quotas.cell(row({ declared: false }), head(0)).gate).toBe('nothing')
  })
  it('has no measure where nothing was seen', () => {
    expect(quotas.cell(row({ quotas: [q(0, -1, 'unprobed')] }), head(0)).bar).toBe(-1)
  })
})

it('has words and a gate for everything that can be expected', () => {
  for (const [gate, words] of Object.values(declared)) expect([gate, words].every(Boolean)).toBe(true)
  expect(lenses.map((l) => l.id)).toEqual(['access', 'tokens', 'origins', 'quotas'])
})
