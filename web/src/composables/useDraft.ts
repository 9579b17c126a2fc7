import { storeToRefs } from 'pinia'
import { computed, reactive, watch } from 'vue'
import { api, ask, type Edited, type MembersEdit } from '../api/client'
import { usePending } from '../stores/pending'
import { wrote } from '../parts/wrote'
import { useFresh } from './useFresh'

/** Writes what was set in a text, of all fields of a form, and gives the text after it. */
export type Write = (text: string, set: Record<string, string>, all: Record<string, string>) => Promise<Edited>

/** Writes members of one item of a section. */
export function members(section: MembersEdit['section'], item: () => string): Write {
  return (text, set) => ask(api.POST('/api/members/edit', { body: { text, section, item: item(), set } }))
}

/**
 * One quota, lifetime, target or permission as a form has it: names are its fields, said what is declared of them. What
 * was changed is written into a text that nothing keeps yet, while somebody types, so that pictures follow it; put makes
 * a pending edit of it.
 */
export function useDraft(
  names: string[],
  said: () => Record<string, string>,
  of: () => string,
  write: Write,
  title = '', // before what the edit is called
) {
  const pending = usePending()
  const { text } = storeToRefs(pending)
  const form: Record<string, string> = reactive({})
  function reset() {
    for (const n of names) form[n] = said()[n] ?? ''
  }
  // What is declared is read anew with each change of the board: only where it says something else is the form filled.
  watch(() => JSON.stringify([of(), said()]), reset, { immediate: true })
  const changes = computed(() => {
    const out: Record<string, string> = {}
    for (const n of names) if ((form[n] ?? '').trim() !== (said()[n] ?? '')) out[n] = (form[n] ?? '').trim()
    return out
  })
  const changed = computed(() => Object.keys(changes.value).length > 0)
  const { found, error, fresh } = useFresh([changes, text], () =>
    changed.value ? write(text.value, { ...changes.value }, { ...form }) : null,
  )
  /** The text with the changes; empty where there are none that have a meaning. */
  const draft = computed(() => (changed.value && !error.value ? (found.value?.text ?? '') : ''))
  /** The lines that it would write. */
  const lines = computed(() => (draft.value ? wrote(text.value, draft.value) : []))
  function put() {
    if (found.value && fresh.value && changed.value) pending.put(title + found.value.title, found.value.text)
  }
  return { form, changed, error, fresh, draft, lines, put, reset }
}
