import type { Share } from '../api/client'

/** All crossings of a share. */
export function all(s: Share): number {
  return s.proven + s.inferred + s.unproven + s.unsent + s.left + s.undecided
}

/** The part that was proven or inferred, in whole percent; never 100 where something is missing, never 0 where
 * something is not. */
export function checked(s: Share): number {
  const [part, whole] = [s.proven + s.inferred, all(s)]
  if (part === whole) return 100
  return Math.min(99, Math.max(part ? 1 : 0, Math.round((100 * part) / whole)))
}
