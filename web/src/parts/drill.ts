import type { Probe } from '../api/client'

export type DrillStep = NonNullable<Probe['steps']>[number]

/** A step parts from the declaration; a service that fails or throttles says nothing. */
export function parts(s: DrillStep): boolean {
  if (!s.expected || s.status >= 500 || s.status === 429 || s.status === 0) return false
  return s.worked !== (s.expected === 'works')
}
