import { expect, it } from 'vitest'
import type { PagesLook } from '../../api/client'
import type { Shown } from '../../stores/workspace'
import type { ShownRow } from '../lens'
import { origins } from '.'
import { counts, turnedPages, withPages } from './pages'

const page = (id: string, was = {}, now = {}) => ({ id, origin: id, hostile: false, says: '', was, now })
const cell = { expect: 'send' as const, found: 'agrees' as const, inferred: false }
const board = {
  pages: [page('https://a.example'), page('unrelated')],
  rows: [
    { key: 'GET /x', origins: [cell, cell] },
    { key: 'GET /y', origins: [cell, cell] },
  ],
} as unknown as Shown
const look = (o: Partial<PagesLook>): PagesLook => ({
  entries: [],
  pages: board.pages as never,
  turned: [],
  total: 0,
  ...o,
})

it('is the board itself where a text changes nothing', () => {
  expect(withPages(board, look({}))).toBe(board)
})

it('shows what a text makes of a crossing, and leaves the others', () => {
  const to = look({ turned: [{ route: 'GET /y', page: 'unrelated', was: 'send', becomes: 'read' }], total: 1 })
  const b = withPages(board, to)
  expect(b.rows[0]).toBe(board.rows[0])
  const [a, other] = origins.heads(b, new Set())
  const y = b.rows[1] as ShownRow
  expect(origins.cell(y, a!)).toMatchObject({ gate: 'oneway', pending: false })
  expect(origins.cell(y, other!)).toMatchObject({ gate: 'open', pending: true, found: 'agrees' })
  expect(turnedPages(to).map((g) => g.pages.map((p) => p.id))).toEqual([['unrelated']])
})

it('has a column for a page that is not kept yet', () => {
  const pages = [page('https://new.example'), ...look({}).pages]
  const of = { page: 'https://new.example', was: 'send' as const }
  const turned = [
    { ...of, route: 'GET /x', becomes: 'read' as const },
    { ...of, route: 'GET /y', becomes: 'send' as const },
  ]
  const b = withPages(board, look({ pages, turned, total: 1 }))
  const heads = origins.heads(b, new Set())
  expect(heads.map((h) => h.key)).toEqual([
    'origin:https://new.example',
    'origin:https://a.example',
    'origin:unrelated',
  ])
  expect(origins.cell(b.rows[0]!, heads[0]!)).toMatchObject({ gate: 'open', found: 'unprobed', pending: true })
  expect(origins.cell(b.rows[1]!, heads[0]!)).toMatchObject({ gate: 'oneway', pending: false })
  expect(origins.cell(b.rows[1]!, heads[1]!)).toMatchObject({ gate: 'oneway', found: 'agrees' })
})

it('counts what a page can do, with what changes', () => {
  expect(counts(page('x', { read: 2, nothing: 3 }, { read: 4, send: 1 }))).toBe(
    'reads 2 → 4, sends blindly 0 → 1, can do nothing 3 → 0',
  )
  expect(counts(page('x', { 'read-as-user': 2 }, { 'read-as-user': 2 }))).toBe('reads as the user 2')
})
