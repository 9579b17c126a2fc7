import { describe, expect, it } from 'vitest'
import type { ComparedFinding, FindingChange, Kind } from '../../api/client'
import { flow } from './flow'

const of = (kind: Kind, change: FindingChange, n: number): ComparedFinding[] =>
  Array.from({ length: n }, (_, i) => ({
    id: `mg-${kind}${change}${i}`,
    kind,
    name: kind,
    title: '',
    where: '',
    severity: 'high',
    change,
    why: '',
    reason: '',
    first: 1,
    last: 2,
  }))

describe('the flow of findings', () => {
  const list = [...of('U', 'unchanged', 3), ...of('U', 'mended', 1), ...of('P', 'new', 2), ...of('W', 'moved', 1)]
  it('counts each finding once on each side that it is on', () => {
    const f = flow(list)
    expect(f.left.map((b) => [b.kind, b.n])).toEqual([
      ['U', 4],
      ['W', 1],
    ])
    expect(f.right.map((b) => [b.kind, b.n])).toEqual([
      ['U', 3],
      ['P', 2],
    ])
    expect([...f.ended, ...f.begun].map((k) => [k.change, k.n])).toEqual([
      ['mended', 1],
      ['moved', 1],
      ['new', 2],
    ])
    expect(f.bands.reduce((n, b) => n + b.n, 0)).toBe(list.length)
  })
  it('stays inside its picture, however many there are', () => {
    const f = flow([...of('U', 'unchanged', 4000), ...of('W', 'mended', 1)])
    expect(f.height).toBeLessThan(400)
    for (const b of f.bands) {
      expect(b.width).toBeGreaterThan(0)
      expect(Math.max(b.from, b.to)).toBeLessThan(f.height)
    }
    expect(flow([]).height).toBe(120)
  })
})
