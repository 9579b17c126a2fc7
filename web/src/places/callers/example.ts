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
