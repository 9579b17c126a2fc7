import type { CallerRole } from '../../api/client'

/** Chains of roles, each from one that no other includes down to what it includes: a row of the picture. A role that
 * several include stands in the first chain that comes to it. */
export function chains(roles: CallerRole[]): CallerRole[][] {
  const by = new Map(roles.map((r) => [r.name, r]))
  const below = new Set(roles.flatMap((r) => r.includes))
  const seen = new Set<string>()
  const out: CallerRole[][] = []
  const walk = (r: CallerRole, row: CallerRole[]) => {
    if (seen.has(r.name)) return
    seen.add(r.name)
    row.push(r)
    const next = r.includes.map((n) => by.get(n)).filter((x): x is CallerRole => !!x && !seen.has(x.name))
    next.forEach((n, i) => {
      if (i === 0) walk(n, row)
      else start(n)
    })
  }
  const start = (r: CallerRole) => {
    const row: CallerRole[] = []
    walk(r, row)
    if (row.length) out.push(row)
  }
  roles.filter((r) => !below.has(r.name)).forEach(start)
  roles.filter((r) => !seen.has(r.name)).forEach(start) // a cycle, which is an error
  return out.sort((a, b) => b.length - a.length)
}
