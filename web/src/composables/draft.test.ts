import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, expect, it, vi } from 'vitest'
import { effectScope, nextTick, ref } from 'vue'
import { useBeside } from './useBeside'
import { useDraft } from './useDraft'

vi.mock('../api/client', () => ({ api: {}, ask: () => Promise.resolve({}), message: String }))
vi.mock('../stores/pending', async () => {
  const { defineStore } = await import('pinia')
  const { ref } = await import('vue')
  return { usePending: defineStore('pending', () => ({ text: ref(''), pending: ref(false) })) }
})
beforeEach(() => setActivePinia(createPinia()))

it('keeps what is typed while what is declared is read anew', async () => {
  const said = ref({ max: '15m' })
  await effectScope().run(async () => {
    const { form, changed, reset } = useDraft(
      ['max', 'idle'],
      () => said.value,
      () => 'access',
      () => Promise.resolve({ text: '', title: '', notes: [] }),
    )
    form.max = '2h'
    said.value = { max: '15m' }
    await nextTick()
    expect(form).toEqual({ max: '2h', idle: '' })
    expect(changed.value).toBe(true)
    reset()
    expect(changed.value).toBe(false)
    said.value = { max: '1h' }
    await nextTick()
    expect(form.max).toBe('1h')
  })
})

it('holds the answer that was asked for last', async () => {
  const target = ref('a')
  const answers: ((v: string) => void)[] = []
  await effectScope().run(async () => {
    const { data } = useBeside(() => new Promise<string>((done) => answers.push(done)), [target])
    target.value = 'b'
    await nextTick()
    answers[1]!('of b')
    answers[0]!('of a')
    await vi.waitFor(() => expect(data.value).toBe('of b'))
  })
})
