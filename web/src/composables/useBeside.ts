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
  async function into(to: typeof declared, of: string, wanted: () => string) {
    try {
      const r = await look(of)
      if (of !== wanted()) return // something else is looked at by now
      to.value = r
      error.value = ''
    } catch (e) {
      if (of === wanted()) error.value = message(e)
    }
  }
  watch([now, ...again], () => void into(declared, now.value, () => now.value), { immediate: true })
  watch([draft, ...again], () => {
    if (draft.value) void into(drafted, draft.value, () => draft.value)
    else drafted.value = null
  })
  return {
    declared,
    data: computed(() => drafted.value ?? declared.value),
    draft,
    text: computed(() => draft.value || now.value),
    error,
  }
}
