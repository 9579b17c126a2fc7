import { computed, shallowRef, watch, type Ref } from 'vue'
import { storeToRefs } from 'pinia'
import { api, ask, type ChangedCrossing } from '../api/client'
import { useWorkspace } from '../stores/workspace'
import { sinceOf, type Changed } from './filter'

/** The crossings that are otherwise since the sweep that a filter names; undefined where that cannot be told. */
export function useChanged(q: Ref<string>) {
  const { target, version } = storeToRefs(useWorkspace())
  const list = shallowRef<ChangedCrossing[] | undefined>([])
  let turn = 0
  watch(
    () => [sinceOf(q.value), version.value] as const,
    async ([since]) => {
      const mine = ++turn
      if (!since) {
        list.value = []
        return
      }
      try {
        const query = { since, target: target.value || undefined }
        const got = await ask(api.GET('/api/changed', { params: { query } }))
        if (mine === turn) list.value = got
      } catch {
        if (mine === turn) list.value = undefined
      }
    },
    { immediate: true },
  )
  return computed<Changed | undefined>(() => {
    if (!list.value) return undefined
    const out: Changed = new Map()
    for (const c of list.value) out.set(c.route, (out.get(c.route) ?? new Set()).add(c.column))
    return out
  })
}
