/** A JSON Pointer to a member of what another one points to (RFC 6901, section 3). */
export function memberOf(pointer: string, name: string): string {
  return `${pointer}/${name.replaceAll('~', '~0').replaceAll('/', '~1')}`
}
