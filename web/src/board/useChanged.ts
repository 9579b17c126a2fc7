import { computed, type Ref } from 'vue'
import { storeToRefs } from 'pinia'
import { api, ask, type ChangedCrossing } from '../api/client'
import { useAnswer } from '../composables/useAnswer'
import { useWorkspace } from '../stores/workspace'
import { sinceOf, type Changed } from './filter'

/** The crossings that are otherwise since the sweep that a filter names. `by` is undefined where that cannot be
 * told; `error` says why. */
export function useChanged(q: Ref<string>) {
  const { target, version } = storeToRefs(useWorkspace())
  const since = computed(() => sinceOf(q.value))
  const { answer: list, error } = useAnswer(
    () => [since.value, version.value],
    (): Promise<ChangedCrossing[]> | undefined => {
      const query = { since: since.value, target: target.value || undefined }
      return since.value ? ask(api.GET('/api/changed', { params: { query } })) : undefined
    },
  )
  const by = computed<Changed | undefined>(() => {
    if (error.value) return undefined
    const out: Changed = new Map()
    for (const c of list.value ?? []) out.set(c.route, (out.get(c.route) ?? new Set()).add(c.column))
    return out
  })
  return { since, list, error, by }
}
