import { access } from './access'
import type { Lens } from './lens'
import { origins } from './origins'
import { quotas } from './quotas'
import { tokens } from './tokens'

/** All lenses, in the order of their keys. */
export const lenses: Lens[] = [access, tokens, origins, quotas]

export type { Cell, Head, Lens, ShownRow } from './lens'
