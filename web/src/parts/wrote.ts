/** The lines of a text that stand where another one has different ones; none where lines were only taken away. */
export function wrote(before: string, after: string): string[] {
  const a = before.split('\n')
  const b = after.split('\n')
  let from = 0
  while (from < a.length && from < b.length && a[from] === b[from]) from++
  let end = 0
  while (end < a.length - from && end < b.length - from && a[a.length - 1 - end] === b[b.length - 1 - end]) end++
  return b.slice(from, b.length - end)
}
