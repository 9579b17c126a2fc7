/** Ways to prove who calls, as a form asks for them. */
export type SchemeKind = 'login' | 'bearer' | 'header' | 'query' | 'cookie' | 'basic'

export interface SchemeForm {
  kind: SchemeKind
  route: string // "POST /login"
  form: boolean // the login sends a form in place of JSON
  body: string // JSON with {names}
  at: string // a pointer into the answer
  field: string
}

const plain = /^[A-Za-z][-_A-Za-z0-9]*$/
const scalar = (s: string) => (plain.test(s) ? s : JSON.stringify(s))

/** The members of a scheme on one line, as a declaration has them; empty where the form says too little. */
export function schemeText(f: SchemeForm): string {
  const field = f.field.trim()
  switch (f.kind) {
    case 'bearer':
      return '{ kind: bearer }'
    case 'basic':
      return '{ kind: basic }'
    case 'header':
    case 'query':
      return field ? `{ kind: api-key, in: ${f.kind}, name: ${scalar(field)} }` : ''
    default: {
      let body: unknown
      try {
        body = JSON.parse(f.body)
      } catch {
        return ''
      }
      if (!/^[A-Z]+ \S/.test(f.route) || body === null || typeof body !== 'object') return ''
      const send = `send: ${scalar(f.route)}, ${f.form ? 'form' : 'json'}: ${JSON.stringify(body)}`
      if (f.kind === 'cookie') return field ? `{ kind: cookie, name: ${scalar(field)}, login: { ${send} } }` : ''
      return f.at.startsWith('/')
        ? `{ kind: bearer, login: { ${send}, take: { access: ${JSON.stringify(f.at)} } } }`
        : ''
    }
  }
}
