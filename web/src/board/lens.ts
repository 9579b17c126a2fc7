import type { Board, Column, Row } from '../api/client'
import { board } from '../state/workspace'

/** One column as the grid shows it: a caller, or several folded into one. */
export interface Head {
  key: string
  label: string
  sub: string
  columns: number[] // indexes into the board's columns
  folded: boolean
  index?: number // of a lens whose columns are no callers
  title?: string // what it stands for, where the label is short
}

/** What a cell shows. */
export interface Cell {
  expect: string
  verdict: string
  inferred: boolean
  pending: boolean // an edit that is not kept yet changes it
  bar?: number // of a lens that measures: what was seen, as a part of what is allowed; -1 when nothing was
}

/** A row with what pending edits make of it. */
export type ShownRow = Row & { pending?: string }

/** A lens says its columns and what a cell shows. */
export interface Lens {
  id: string
  name: string
  question: string
  prefix?: string // of its columns' keys, where they are no callers
  heads(b: Board, open: Set<number>): Head[]
  cell(r: ShownRow, h: Head): Cell
  expectation(letter: string): string
}

const worst = 'UPTLXSKRW?.='

/** The worst of several verdict letters. */
export function worse(letters: string[]): string {
  return letters.reduce((a, b) => (worst.indexOf(b) < worst.indexOf(a) ? b : a), '=')
}

function headOf(c: Column, i: number): Head {
  return { key: c.key, label: c.label, sub: c.sub, columns: [i], folded: false }
}

const words: Record<string, string> = {
  r: 'refuse (401)',
  f: 'forbid (403)',
  h: 'hide (404)',
  a: 'admit',
  d: 'admit for an own record',
  c: 'turn away',
}

/** Who gets in: nobody, then identities by role. */
export const access: Lens = {
  id: 'access',
  name: 'Access',
  question: 'who gets in?',
  heads(b, open) {
    const out: Head[] = []
    const done = new Set<number>()
    b.columns.forEach((c, i) => {
      if (c.class < 0 || c.members === 1 || open.has(c.class)) {
        out.push(headOf(c, i))
        return
      }
      if (done.has(c.class)) return
      done.add(c.class)
      const same = b.columns.flatMap((o, k) => (o.class === c.class ? [k] : []))
      out.push({ key: c.key, label: c.sub || c.label, sub: `× ${same.length}`, columns: same, folded: true })
    })
    return out
  },
  cell(r, h) {
    const verdicts = h.columns.map((i) => r.verdict[i] ?? '.')
    return {
      expect: r.expect[h.columns[0] ?? 0] ?? 'c',
      verdict: worse(verdicts),
      inferred: h.columns.every((i) => r.inferred[i] === '1'),
      pending: h.columns.some((i) => r.pending?.[i] === '1'),
    }
  },
  expectation(letter) {
    return words[letter] ?? letter
  },
}

/** What does the lock accept? */
export const tokens: Lens = {
  id: 'tokens',
  name: 'Tokens',
  question: 'what does the lock accept?',
  prefix: 'credential:',
  heads(b) {
    return b.ways.map((w, i) => ({ key: `credential:${w}`, label: w, sub: '', columns: [], folded: false, index: i }))
  },
  cell(r, h) {
    const i = h.index ?? 0
    return { expect: r.tokens[i] ?? '-', verdict: r.tokenSeen[i] ?? '.', inferred: false, pending: false }
  },
  expectation(letter) {
    return letter === '-' ? 'nothing: it means nothing here' : (words[letter] ?? letter)
  },
}

const pageWords: Record<string, string> = {
  n: 'nothing, and a browser does nothing for it',
  s: 'send blindly',
  a: 'read, without the user’s cookies',
  u: 'read as the user, with the cookies',
  '-': 'no such page here',
}
// A gate is drawn alike where the same comes of it: nothing is a bar that is
// down, reading one that is up.
const pageGates: Record<string, string> = { r: 'a' }

/** A declared origin's first label tells it from the others. */
function named(origin: string): { label: string; sub: string } {
  const host = origin.replace(/^https:\/\//, '')
  const cut = host.includes('://') ? -1 : host.indexOf('.')
  return cut > 0 ? { label: host.slice(0, cut), sub: host.slice(cut) } : { label: host, sub: 'declared' }
}

/** Which pages can call? */
export const origins: Lens = {
  id: 'origins',
  name: 'Origins',
  question: 'which pages can call?',
  prefix: 'origin:',
  heads(b) {
    return b.pages.map((p, i) => ({
      key: `origin:${p.id}`,
      ...(p.hostile ? { label: p.id, sub: 'hostile' } : named(p.origin)),
      columns: [],
      folded: false,
      index: i,
      title: p.hostile ? `${p.says}: ${p.origin}` : p.origin,
    }))
  },
  cell(r, h) {
    const i = h.index ?? 0
    const want = r.pages[i] ?? '-'
    return { expect: pageGates[want] ?? want, verdict: r.pageSeen[i] ?? '.', inferred: false, pending: false }
  },
  expectation(letter) {
    return pageWords[letter] ?? letter
  },
}

/** How often? */
export const quotas: Lens = {
  id: 'quotas',
  name: 'Quotas',
  question: 'how often?',
  prefix: 'counted:',
  heads(b) {
    return b.kinds.map((k, i) => ({
      key: `counted:${k}`,
      label: k,
      sub: b.quotas
        .filter((q) => q.kind === i)
        .map((q) => q.name)
        .join(', '),
      columns: [],
      folded: false,
      index: i,
      title: `counted by ${k}: ${b.quotas
        .filter((q) => q.kind === i)
        .map((q) => q.name)
        .join(', ')}`,
    }))
  },
  cell(r, h) {
    const here = r.counted.map((k) => board.value?.quotas[k]).filter((q) => q?.kind === h.index)
    // A route that nothing counts stands out, once in its row.
    if (!r.counted.length && h.index === 0 && r.declared)
      return { expect: 'n', verdict: '.', inferred: false, pending: false, bar: -1 }
    if (!here.length) return { expect: '-', verdict: '.', inferred: false, pending: false }
    const parts = here.map((q) => (q && q.most >= 0 && q.ceiling > 0 ? q.most / q.ceiling : -1))
    return {
      expect: 'q',
      verdict: worse(here.map((q) => q?.verdict ?? '.')),
      inferred: false,
      pending: false,
      bar: Math.max(...parts),
    }
  },
  expectation(letter) {
    return { q: 'no more than its quota', n: 'no quota counts it at all' }[letter] ?? 'no limit of this kind'
  },
}

export const lenses: Lens[] = [access, tokens, origins, quotas]
