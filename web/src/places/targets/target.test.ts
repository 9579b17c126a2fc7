import { expect, it } from 'vitest'
import { blank, said, target } from './target'

it('is the target that it was made from', () => {
  const t = {
    ...blank,
    name: 'staging',
    base: 'https://s.example',
    hosts: { id: 'https://id.s.example', mail: 'https://m.s.example:8443' },
    values: { issuer: 'https://id.s.example' },
    direct: 'https://10.0.0.7',
    unsafe: 'made-records-only' as const,
    askFor: ['/internal/health', '/debug'],
  }
  expect(target(said(t))).toEqual(t)
  expect(said(t).hosts).toBe('id: https://id.s.example\nmail: https://m.s.example:8443')
})

it('says which line is not understood', () => {
  expect(() => target({ ...said(blank), hosts: 'id: https://x\nhttps//y' })).toThrow('other hosts: "https//y" is not')
  expect(() => target({ ...said(blank), values: ': x' })).toThrow('values: ": x" is not')
})
