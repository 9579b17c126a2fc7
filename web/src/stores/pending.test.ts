import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, expect, it, vi } from 'vitest'
import { usePending } from './pending'

vi.mock('../api/client', () => ({
  api: { GET: () => ({ text: 'a', revision: 1, messages: [] }), POST: () => ({ messages: [], fresh: [] }) },
  ask: (x: unknown) => Promise.resolve(x),
  message: String,
}))
beforeEach(() => setActivePinia(createPinia()))

it('makes an edit of the text as it is, and none of one that was undone meanwhile', async () => {
  vi.stubGlobal('localStorage', { getItem: () => null, setItem: () => {}, removeItem: () => {} })
  vi.stubGlobal('window', { addEventListener: () => {}, removeEventListener: () => {} })
  const p = usePending()
  await p.load()
  const add = (what: string) => (text: string) => Promise.resolve({ text: text + what })
  await p.edit(add('b'), () => 'adds b')
  await p.edit(add('c'), () => 'adds c')
  expect(p.text).toBe('abc')
  expect(p.held.map((s) => s.title)).toEqual(['adds b', 'adds c'])
  let done: (made: { text: string }) => void = () => {}
  const slow = p.edit(
    () => new Promise<{ text: string }>((r) => (done = r)),
    () => 'adds d',
  )
  p.undo()
  done({ text: 'abcd' })
  await expect(slow).rejects.toThrow('changed meanwhile')
  expect(p.text).toBe('ab')
  expect(p.canRedo).toBe(true)
})
