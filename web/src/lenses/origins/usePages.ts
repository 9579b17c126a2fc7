import { storeToRefs } from 'pinia'
import { computed, type Ref } from 'vue'
import { api, ask, type PagesLook } from '../../api/client'
import { useBeside } from '../../composables/useBeside'
import { usePending } from '../../stores/pending'
import { useWorkspace } from '../../stores/workspace'

/** What pages may do by a text that is not kept yet, while on: as it is pending, and as a form would have it then. */
export function usePages(on: Ref<boolean>, editing: Ref<boolean>) {
  const { pending } = storeToRefs(usePending())
  const { version } = storeToRefs(useWorkspace())
  const asked = computed(() => on.value && (editing.value || pending.value))
  const { declared, data, draft } = useBeside<PagesLook | null>(
    async (text) => (asked.value ? ask(api.POST('/api/origins/look', { body: { text } })) : null),
    [asked, version],
  )
  return { now: declared, then: data, draft }
}
