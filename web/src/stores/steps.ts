import { useDebounceFn, useLocalStorage } from '@vueuse/core'
import { defineStore, storeToRefs } from 'pinia'
import { computed, ref } from 'vue'
import { api, ask, type Steps } from '../api/client'
import { usePending } from './pending'
import { useWorkspace } from './workspace'

/** What stands before the first sweep, by the text as it would be kept, until that is over or hidden. */
export const useSteps = defineStore('steps', () => {
  const { board, target } = storeToRefs(useWorkspace())
  const { text, pending } = storeToRefs(usePending())
  const found = ref<Steps | null>(null)
  const left = useLocalStorage<string[]>('millgate.steps', []) // files whose steps somebody took away
  const file = computed(() => board.value?.file ?? '')
  const over = computed(() => {
    const b = board.value
    if (!b || left.value.includes(file.value)) return true
    return !!b.sweep && (b.sweep.id > 1 || !b.sweep.endedAt || b.notFair === 0)
  })
  const look = useDebounceFn(async () => {
    if (over.value) return
    const body = { target: target.value, text: pending.value ? text.value : '' }
    try {
      found.value = await ask(api.POST('/api/callers/steps', { body }))
    } catch {
      // It is looked at again with the next change; what is shown meanwhile was so.
    }
  }, 150)
  function hide() {
    left.value = [...left.value, file.value]
  }
  return { found: computed(() => found.value), over, look, hide }
})
