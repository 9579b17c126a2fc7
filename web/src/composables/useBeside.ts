import { storeToRefs } from 'pinia'
import { computed, ref, shallowRef, watch, type ShallowRef, type WatchSource } from 'vue'
import { message } from '../api/client'
import { usePending } from '../stores/pending'

/**
 * What the server says of what is declared, with edits that are pending; and, while a form has a draft, of what that
 * would make of it. It is asked again when one of the sources changes.
 */
export function useBeside<T>(look: (text: string) => Promise<T>, again: WatchSource[]) {
  const { text, pending } = storeToRefs(usePending())
  const declared: ShallowRef<T | null> = shallowRef(null)
  const drafted: ShallowRef<T | null> = shallowRef(null)
  const draft = ref('')
  const error = ref('')
  const now = computed(() => (pending.value ? text.value : ''))
  /** Looks into one of them; of several answers the one that was asked for last holds. */
  function into(to: typeof declared) {
    let turn = 0
    return async (of: string | null) => {
      const mine = ++turn
      if (of === null) {
        to.value = null
        return
      }
      try {
        const r = await look(of)
        if (mine !== turn) return
        to.value = r
        error.value = ''
      } catch (e) {
        if (mine === turn) error.value = message(e)
      }
    }
  }
  const declare = into(declared)
  const sketch = into(drafted)
  watch([now, ...again], () => void declare(now.value), { immediate: true })
  watch([draft, ...again], () => void sketch(draft.value || null))
  return {
    declared,
    data: computed(() => drafted.value ?? declared.value),
    draft,
    text: computed(() => draft.value || now.value),
    error,
  }
}
