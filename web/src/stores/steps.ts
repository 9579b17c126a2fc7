import { useDebounceFn } from '@vueuse/core'
import { defineStore, storeToRefs } from 'pinia'
import { ref } from 'vue'
import { api, ask, type Steps } from '../api/client'
import { usePending } from './pending'
import { useWorkspace } from './workspace'

/** What stands before the first sweep, by the text as it would be kept. */
export const useSteps = defineStore('steps', () => {
  const { target } = storeToRefs(useWorkspace())
  const { text, pending } = storeToRefs(usePending())
  const found = ref<Steps | null>(null)
  const look = useDebounceFn(async () => {
    const body = { target: target.value, text: pending.value ? text.value : '' }
    try {
      found.value = await ask(api.POST('/api/callers/steps', { body }))
    } catch {
      // It is looked at again with the next change; what is shown meanwhile was so.
    }
  }, 150)
  return { found, look }
})
