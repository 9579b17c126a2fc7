import type { Exchange } from '../api/client'
import { memberOf } from '../parts/pointer'

/** What an error says that others could have to be like: its media type, headers that mean something, its members. */
export interface Contract {
  type: string
  headers: string[]
  has: string[] // pointers (RFC 6901)
}

// Headers by which an error tells what to do (RFC 9110, sections 11.6.1, 10.2.3 and 10.2.1).
const telling = new Map([
  [401, 'WWW-Authenticate'],
  [405, 'Allow'],
  [429, 'Retry-After'],
  [503, 'Retry-After'],
])

const most = 12 // members; an error with more is no form

export function contractOf(x: Pick<Exchange, 'status' | 'answer' | 'content'>): Contract {
  const header = (name: string) => x.answer.find((h) => h.name.toLowerCase() === name.toLowerCase())?.value ?? ''
  const name = telling.get(x.status)
  let body: unknown = null
  try {
    body = JSON.parse(x.content ?? '')
  } catch {
    // It is no JSON, and has no members.
  }
  const members = body && typeof body === 'object' && !Array.isArray(body) ? Object.keys(body) : []
  return {
    type: header('Content-Type').split(';')[0]!.trim().toLowerCase(),
    headers: name && header(name) ? [name] : [],
    has: members.length > most ? [] : members.map((m) => memberOf('', m)),
  }
}
