import { api, ask } from '../api/client'

/** What could stand at the end of the declaration, if it went on like this: names by what they are. */
export async function offered(tail: string): Promise<{ label: string; detail: string }[]> {
  try {
    const d = await ask(api.GET('/api/declaration'))
    const text = `${d.text}\n${tail}`
    const lines = text.split('\n')
    const c = await ask(
      api.POST('/api/declaration/complete', {
        body: { text, line: lines.length, column: lines[lines.length - 1]!.length + 1 },
      }),
    )
    return c.options
  } catch {
    return []
  }
}

/** The words of `on` beside own, with what they are. */
export async function otherRecords(): Promise<{ label: string; detail: string }[]> {
  const list = await offered('access:\n  - { who: [{ on: ')
  return list.filter((o) => o.detail === 'group' || o.detail === 'kind')
}

/** Which records a word of `on` means, in a list. */
export function recordsOn(o: { label: string; detail: string }): string {
  return o.detail === 'kind' ? `of its own ${o.label}` : o.label
}
