import type { Steps } from '../api/client'

/** A step before the first sweep: where it is taken, and how far it is. */
export interface Step {
  name: 'routes' | 'target' | 'callers' | 'rules' | 'controls'
  says: string
  to: string
  done: boolean
}

/** The steps up to the first sweep; notFair are requests of it whose callers were not let in, null before it. */
export function stepsOf(s: Steps, notFair: number | null): Step[] {
  return [
    { name: 'routes', says: s.routes ? String(s.routes) : 'bring them in', to: '/import', done: s.routes > 0 },
    { name: 'target', says: s.targets ? 'named' : 'say where it runs', to: '/targets', done: s.targets > 0 },
    {
      name: 'callers',
      says: s.callers ? `${s.logIn} of ${s.callers} log in` : 'add two of a role',
      to: '/callers',
      done: s.callers > 0 && s.logIn === s.callers,
    },
    {
      name: 'rules',
      says: s.routes ? `${s.decided} of ${s.routes} decided` : 'who may call what',
      to: '/observe',
      done: s.routes > 0 && s.decided === s.routes,
    },
    {
      name: 'controls',
      says: notFair === null ? 'tried first by the sweep' : `${notFair} not admitted`,
      to: notFair === null ? '/board' : '/board?list=not-fair',
      done: notFair === 0,
    },
  ]
}
