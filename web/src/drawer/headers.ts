/** Lines of a text that are not empty. */
function lines(text: string): string[] {
  return text.split('\n').filter((l) => l.trim())
}

const field = /^\s*([!#$%&'*+.^_|~0-9A-Za-z-]+)\s*:(.*)$/

/** The first line that is no header field (RFC 9110 section 5.1), empty without. */
export function unreadable(text: string): string {
  return lines(text).find((l) => !field.test(l)) ?? ''
}

/** Header fields written one a line, "name: value". */
export function headersIn(text: string): { name: string; value: string }[] {
  return lines(text).flatMap((l) => {
    const m = field.exec(l)
    return m ? [{ name: m[1] ?? '', value: (m[2] ?? '').trim() }] : []
  })
}
