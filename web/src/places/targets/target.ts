import type { Target } from '../../api/client'

/** What a new one begins with. */
export const blank: Target = {
  name: '',
  base: 'https://',
  hosts: {},
  values: {},
  direct: '',
  pace: '5 per 1s',
  unsafe: 'refused',
  askFor: [],
}

function lines(m: Record<string, string>): string {
  return Object.entries(m)
    .map(([k, v]) => `${k}: ${v}`)
    .join('\n')
}
function rows(text: string): string[] {
  return text
    .split('\n')
    .map((l) => l.trim())
    .filter(Boolean)
}
function named(text: string, what: string): Record<string, string> {
  const out: Record<string, string> = {}
  for (const l of rows(text)) {
    const i = l.indexOf(':')
    if (i < 1) throw new Error(`${what}: "${l}" is not  name: value`)
    out[l.slice(0, i).trim()] = l.slice(i + 1).trim()
  }
  return out
}

/** A target as its form has it: a text for each member, several in lines. */
export function said(t: Target): Record<string, string> {
  return {
    ...{ name: t.name, base: t.base, direct: t.direct, pace: t.pace, unsafe: t.unsafe },
    ...{ hosts: lines(t.hosts), values: lines(t.values), askFor: t.askFor.join('\n') },
  }
}

/** The target that a form says; it throws where a line is not  name: value. */
export function target(form: Record<string, string>): Target {
  const at = (n: string) => (form[n] ?? '').trim()
  return {
    ...{ name: at('name'), base: at('base'), direct: at('direct'), pace: at('pace') },
    unsafe: at('unsafe') as Target['unsafe'],
    hosts: named(at('hosts'), 'other hosts'),
    values: named(at('values'), 'values'),
    askFor: rows(at('askFor')),
  }
}
