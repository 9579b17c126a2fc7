import type { Sequence } from '../api/client'

/**
 * steps lays out what comes before what: each stage stands in a step behind all those that were seen to come before
 * it. Stages of one step were not seen one before the other. Pairs that contradict each other end in the last step.
 */
export function steps(list: Sequence[]): Sequence['first'][][] {
  const names = [...new Set(list.flatMap((s) => [s.first, s.then]))]
  const at = new Map(names.map((n) => [n, 0]))
  for (let round = 1; round < names.length; round++)
    for (const s of list) at.set(s.then, Math.min(names.length - 1, Math.max(at.get(s.then)!, at.get(s.first)! + 1)))
  const out: Sequence['first'][][] = []
  for (const n of names) (out[at.get(n)!] ??= []).push(n)
  return out.filter((s) => s.length > 0)
}
