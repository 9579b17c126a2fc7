import { storeToRefs } from 'pinia'
import { computed, reactive, watch } from 'vue'
import { api, ask, type MembersEdit } from '../api/client'
import { usePending } from '../stores/pending'
import { useFresh } from './useFresh'

/**
 * Members of one quota or lifetime as a form has them. What was changed is written into a text that nothing keeps yet,
 * while somebody types, so that pictures follow it; put makes a pending edit of it.
 */
export function useDraft(
  section: MembersEdit['section'],
  item: () => string,
  members: () => Record<string, string>,
  names: string[],
) {
  const pending = usePending()
  const { text } = storeToRefs(pending)
  const form = reactive<Record<string, string>>({})
  function reset() {
    for (const n of names) form[n] = members()[n] ?? ''
  }
  // What is declared is read anew with each change of the board: only where it says something else is the form filled.
  watch(() => JSON.stringify([item(), members()]), reset, { immediate: true })
  const changes = computed(() => {
    const out: Record<string, string> = {}
    for (const n of names) if ((form[n] ?? '').trim() !== (members()[n] ?? '')) out[n] = (form[n] ?? '').trim()
    return out
  })
  const changed = computed(() => Object.keys(changes.value).length > 0)
  const { found, error, fresh } = useFresh([changes, text], () =>
    changed.value
      ? ask(
          api.POST('/api/members/edit', {
            body: { text: text.value, section, item: item(), set: { ...changes.value } },
          }),
        )
      : null,
  )
  /** The text with the changes; empty where there are none that have a meaning. */
  const draft = computed(() => (changed.value && !error.value ? (found.value?.text ?? '') : ''))
  function put() {
    if (found.value && fresh.value && changed.value) pending.put(found.value.title, found.value.text)
  }
  return { form, changed, error, fresh, draft, put, reset }
}
