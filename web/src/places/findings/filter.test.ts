import { describe, expect, it } from 'vitest'
import type { FindingLine, Point, State } from '../../api/client'
import { completions, parse } from './filter'
import { counted, grouped, longGone, stateWords, strip } from './groups'

function line(change: Partial<FindingLine>): FindingLine {
  return {
    id: 'mg-0123456789',
    kind: 'U',
    name: 'unprotected',
    title: 'No guard',
    where: 'GET /v1/frames',
    place: 'route',
    route: 'GET /v1/frames',
    group: '/v1/frames',
    severity: 'high',
    confidence: 'proven',
    state: 'open',
    marks: ['open'],
    since: 3,
    from: 3,
    seen: 5,
    checked: 5,
    crossings: 2,
    routes: ['GET /v1/frames'],
    callers: ['nobody (no credential)', 'imre'],
    rung: 2,
    ...change,
  }
}

describe('the filter of findings', () => {
  it('holds every word, and one of several values', () => {
    const f = line({})
    for (const [text, is] of [
      ['', true],
      ['state:open', true],
      ['state:new,open', true],
      ['state:new', false],
      ['severity:critical,high kind:unprotected', true],
      ['kind:u', true],
      ['kind:weak-token', false],
      ['caller:IMRE', true],
      ['caller:tove', false],
      ['route:frames rung:2 place:route', true],
      ['group:/v1/frames', true],
      ['group:/v1', false],
      ['since:3', true],
      ['since:4', false],
      ['guard /v1', true],
      ['mg-0123', true],
      ['nothing', false],
      ['state:', true],
    ] as const)
      expect([text, parse(text).test(f)]).toEqual([text, is])
    expect(parse('state:opne severity:high since:x').wrong).toEqual(['state:opne', 'since:x'])
    expect(parse('state:open').names('state')).toBe(true)
  })
  it('offers what there is', () => {
    const list = [line({}), line({ callers: ['tove'] })]
    expect(completions('', list)).toContain('state:')
    expect(completions('severity:high ca', list)).toEqual([
      'severity:high caller:nobody',
      'severity:high caller:imre',
      'severity:high caller:tove',
    ])
    expect(completions('state:not', list)).toEqual(['state:not-checked'])
  })
})

describe('the list of findings', () => {
  it('is grouped, what asks for somebody first', () => {
    const list = [
      line({ id: 'a', where: 'GET /b', routes: ['GET /b'], state: 'mended', severity: 'critical' }),
      line({ id: 'b', where: 'GET /c', routes: ['GET /c'], severity: 'low' }),
      line({ id: 'c', where: 'GET /b', routes: ['GET /b'], severity: 'medium' }),
      line({
        id: 'd',
        where: 'everything behind access',
        place: 'scheme',
        severity: 'high',
        kind: 'S',
        name: 'lifetime',
      }),
    ]
    const groups = grouped(list, 'place', 'severity')
    expect(groups.map((g) => [g.name, g.list.map((f) => f.id).join('')])).toEqual([
      ['scheme access', 'd'],
      ['GET /b', 'ca'],
      ['GET /c', 'b'],
    ])
    expect(groups[1]!.says).toBe('1 route, 1 to mend')
    expect(grouped(list, 'kind', 'where').map((g) => g.name)).toEqual(['lifetime', 'unprotected'])
    expect(counted(list).map((c) => c.words)).toEqual(['3 to mend in 3 places', '1 mended'])
    expect(counted([]).map((c) => c.words)).toEqual(['nothing to mend'])
  })
  it('says what became of each', () => {
    const says = (change: Partial<FindingLine>) => stateWords(line(change))
    expect(says({ state: 'new', from: 5 })).toBe('new in 5')
    expect(says({ state: 'open' })).toBe('open since 3')
    expect(says({ state: 'open', from: 4 })).toBe('back since 4')
    expect(says({ state: 'back again', from: 5 })).toBe('back in 5')
    expect(says({ state: 'mended', from: 4 })).toBe('mended in 4')
    expect(says({ state: 'not checked', checked: 4 })).toBe('not checked since 4')
    expect(says({ state: 'waived', waived: { reason: 'x', until: '2027-01-31' } })).toBe('waived until 31 Jan 2027')
  })
  it('shows the last sweeps, and leaves out what is gone for longer', () => {
    const points = [1, 2, 3].map((sweep) => ({ sweep, revision: 1, at: '', anew: false })) as Point[]
    expect(strip(['new', 'open'], points)).toEqual([undefined, 'new', 'open'])
    expect(strip(['new', 'open', 'mended', 'mended'], points)).toEqual(['open', 'mended', 'mended'])
    expect(strip([], points)).toEqual([undefined, undefined, undefined])
    const of = (...marks: State[]) => line({ marks })
    expect([of('mended', 'moved'), of('open', 'mended'), of('not checked')].map(longGone)).toEqual([true, false, false])
  })
})
