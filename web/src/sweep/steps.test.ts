import { describe, expect, it } from 'vitest'
import { stepsOf } from './steps'

const none = { routes: 0, targets: 0, callers: 0, logIn: 0, decided: 0 }

describe('steps up to the first sweep', () => {
  it('leads from nothing', () => {
    expect(stepsOf(none, null).map((s) => `${s.name}: ${s.says}`)).toEqual([
      'routes: bring them in',
      'target: say where it runs',
      'callers: add two of a role',
      'rules: who may call what',
      'controls: tried first by the sweep',
    ])
    expect(stepsOf(none, null).some((s) => s.done)).toBe(false)
  })
  it('is done by parts', () => {
    const s = stepsOf({ routes: 6, targets: 1, callers: 3, logIn: 2, decided: 6 }, 2)
    expect(s.map((x) => x.done)).toEqual([true, true, false, true, false])
    expect(s[2]!.says).toBe('2 of 3 log in')
    expect(s[4]).toMatchObject({ says: '2 not admitted', to: '/board?list=not-fair' })
  })
})
