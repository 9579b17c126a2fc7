import { diff } from '@codemirror/merge'

/** A line that is only in one of two texts. */
export interface DiffLine {
  sign: '+' | '-' | ' '
  text: string
  line: number // in the new text; in the old one for lines that are gone
}

/** The lines in which two texts differ, with one line around each place. */
export function diffLines(a: string, b: string, around = 1): DiffLine[] {
  if (a === b) return []
  const la = a.split('\n')
  const lb = b.split('\n')
  // Lines as single characters, so that the comparison is of lines.
  const ids = new Map<string, string>()
  const code = (l: string) => {
    let c = ids.get(l)
    if (c === undefined) {
      c = String.fromCharCode(0x100 + ids.size)
      ids.set(l, c)
    }
    return c
  }
  const out: DiffLine[] = []
  const changes = diff(la.map(code).join(''), lb.map(code).join(''), { scanLimit: 2000, timeout: 200 })
  let shown = -1
  for (const c of changes) {
    for (let i = Math.max(shown + 1, c.fromB - around); i < c.fromB; i++)
      out.push({ sign: ' ', text: lb[i] ?? '', line: i + 1 })
    for (let i = c.fromA; i < c.toA; i++) out.push({ sign: '-', text: la[i] ?? '', line: i + 1 })
    for (let i = c.fromB; i < c.toB; i++) out.push({ sign: '+', text: lb[i] ?? '', line: i + 1 })
    shown = c.toB - 1
    for (let i = c.toB; i < Math.min(lb.length, c.toB + around); i++) {
      out.push({ sign: ' ', text: lb[i] ?? '', line: i + 1 })
      shown = i
    }
  }
  return out
}
