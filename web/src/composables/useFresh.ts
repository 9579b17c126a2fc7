import { useDebounceFn } from '@vueuse/core'
import { ref, shallowRef, watch, type WatchSource } from 'vue'
import { message } from '../api/client'

/**
 * What the server says of what stands in fields, asked for when they rest. It is fresh while it is of what stands there;
 * read gives null where there is nothing to ask.
 */
export function useFresh<T>(fields: WatchSource[], read: () => Promise<T> | null) {
  const found = shallowRef<T | null>(null)
  const error = ref('')
  const fresh = ref(false)
  let turn = 0
  const look = useDebounceFn(async () => {
    const mine = ++turn
    const asked = read()
    if (!asked) {
      found.value = null
      error.value = ''
      return
    }
    try {
      const r = await asked
      if (mine !== turn) return
      found.value = r
      fresh.value = true
      error.value = ''
    } catch (e) {
      if (mine === turn) error.value = message(e)
    }
  }, 250)
  watch(
    fields,
    () => {
      turn++ // an answer that is on its way is of what stood here before
      fresh.value = false
      void look()
    },
    { deep: true },
  )
  return { found, error, fresh }
}
