import type { ExampleRead } from '../../api/client'

/** How a part differs between requests, in words, and what follows from it. */
export function varies(p: ExampleRead['parts'][number]): string {
  switch (p.varies) {
    case 'all':
      return 'the same for all callers, so that it proves nobody'
    case 'caller':
      return p.proves ? 'each caller has its own: it proves who calls' : 'each caller has its own'
    case 'session':
      return p.proves ? 'differs from session to session: it proves who calls' : 'differs from request to request'
    default:
      return p.of === 1 ? 'in one request, nothing to compare it with' : 'the same, of one caller'
  }
}

type Told = ExampleRead['told'][number]

/** What is said of a request beside its address, in words. */
export function says(t: Told): string {
  const how = t.logs ? 'logs in' : t.proves ? `proves itself with ${t.proves}` : ''
  if (!how) return [t.form, t.whose, 'nothing proves who calls'].filter(Boolean).join(', ')
  return [t.form, t.whose ? `${t.whose} ${how}` : how].join(', ')
}

/** Requests of which the same is said, in the order of the first of each. */
export function alike(told: Told[]): { says: string; unread: string[]; list: Told[] }[] {
  const by = new Map<string, Told[]>()
  for (const t of told) {
    const key = JSON.stringify([says(t), t.unread])
    by.set(key, [...(by.get(key) ?? []), t])
  }
  return [...by.values()].map((list) => ({ says: says(list[0]!), unread: list[0]!.unread, list }))
}
