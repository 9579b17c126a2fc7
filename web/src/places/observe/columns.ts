import type { Observation } from '../../api/client'

/** A column of callers who meet the same everywhere. */
export interface Column {
  label: string
  says: string
  at: number // the first of them, in the marks of a group
}

/** Callers who meet the same in every group are one column; nobody has its own. */
export function columns(o: Pick<Observation, 'callers' | 'groups'>): Column[] {
  const by = new Map<string, { at: number; names: string[] }>()
  o.callers.forEach((name, at) => {
    const key = name === '' ? '' : o.groups.map((g) => `${g.marks[at]} ${g.on[at]}`).join()
    const c = by.get(key)
    if (c) c.names.push(name)
    else by.set(key, { at, names: [name || 'nobody'] })
  })
  return [...by.values()].map(({ at, names }) => ({
    at,
    label: names.length === 1 ? names[0]! : `${names[0]} +${names.length - 1}`,
    says: names.length === 1 ? names[0]! : `${names.join(', ')}: they meet the same everywhere`,
  }))
}
