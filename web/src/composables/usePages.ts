import { ref, shallowRef } from 'vue'
import { message } from '../api/client'

/** A list that is asked for in pages: the first at once, others when somebody wants more. */
export function usePages<T>(ask: (after?: string) => Promise<{ items: T[]; next?: string }>) {
  const list = shallowRef<T[]>([])
  const next = ref<string>()
  const error = ref('')
  let turn = 0
  async function take(after?: string) {
    const mine = ++turn
    try {
      const page = await ask(after)
      if (mine !== turn) return
      list.value = after ? [...list.value, ...page.items] : page.items
      next.value = page.next
      error.value = ''
    } catch (e) {
      if (mine === turn) error.value = message(e)
    }
  }
  return { list, next, error, reload: () => take(), more: () => take(next.value) }
}
