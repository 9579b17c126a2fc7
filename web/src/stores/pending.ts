import { useDebounceFn, useEventListener } from '@vueuse/core'
import { defineStore } from 'pinia'
import { computed, ref, shallowRef, watch } from 'vue'
import { api, ask, message, type Declaration, type Effect, type Message } from '../api/client'

/** One edit that is not kept yet, with the text as it is after it. */
export interface Step {
  title: string
  text: string
}

const key = 'millgate.pending'
const typedTitle = 'Typed in the editor'

/** Edits of the declaration that are not kept yet: each is the whole text after it. */
export const usePending = defineStore('pending', () => {
  const kept = shallowRef<Declaration | null>(null)
  const steps = shallowRef<Step[]>([])
  const at = ref(0) // how many of the steps hold; the rest can be redone
  const base = ref(0) // the revision that the first step was made from
  const effect = shallowRef<Effect | null>(null)
  const checking = ref(false)
  const problem = ref('')
  const busy = ref(false)

  /** The text as it would be kept. */
  const text = computed(() => (at.value > 0 ? steps.value[at.value - 1]!.text : (kept.value?.text ?? '')))
  const pending = computed(() => kept.value !== null && at.value > 0 && text.value !== kept.value.text)
  const held = computed(() => steps.value.slice(0, at.value))
  const stale = computed(() => pending.value && kept.value !== null && base.value !== kept.value.revision)
  const messages = computed<Message[]>(() =>
    pending.value && effect.value ? effect.value.messages : (kept.value?.messages ?? []),
  )
  const open = computed(() => messages.value.filter((m) => !m.waived))
  const errors = computed(() => messages.value.filter((m) => m.level === 'error').length)

  let loaded = false

  /** Reads the kept text, and what was pending before a reload. */
  async function load(): Promise<void> {
    const d = await ask(api.GET('/api/declaration'))
    kept.value = d
    if (loaded) return
    loaded = true
    try {
      const old = JSON.parse(localStorage.getItem(key) ?? 'null') as {
        text?: unknown
        base?: unknown
        title?: unknown
      } | null
      if (old && typeof old.text === 'string' && typeof old.base === 'number' && old.text !== d.text) {
        steps.value = [{ title: typeof old.title === 'string' ? old.title : 'Before the reload', text: old.text }]
        at.value = 1
        base.value = old.base
      }
    } catch {
      // What cannot be read is nothing that was pending.
    }
  }

  const save = useDebounceFn(saveNow, 300)
  function saveNow() {
    try {
      if (!pending.value) localStorage.removeItem(key)
      else
        localStorage.setItem(
          key,
          JSON.stringify({
            text: text.value,
            base: base.value,
            title: held.value
              .map((s) => s.title)
              .join('; ')
              .slice(0, 200),
          }),
        )
    } catch {
      // A full storage must not stop the work.
    }
  }
  useEventListener(window, 'pagehide', saveNow)

  /** Adds an edit behind those that hold. */
  function put(title: string, after: string) {
    if (after === text.value) return
    if (at.value === 0) base.value = kept.value?.revision ?? 0
    steps.value = [...held.value, { title, text: after }]
    at.value = steps.value.length
    void save()
  }

  /**
   * Makes an edit of the text as it is now. Where that was undone or changed while it was made, it is refused: it would
   * bring back what is gone.
   */
  async function edit<T extends { text: string }>(
    make: (before: string) => Promise<T>,
    title: (made: T) => string,
  ): Promise<T> {
    const before = text.value
    const made = await make(before)
    if (text.value !== before) throw new Error('The text was changed meanwhile. Do it again.')
    put(title(made), made.text)
    return made
  }

  /** What somebody types is one edit, however long it takes. */
  function typed(after: string) {
    if (after === text.value) return
    const last = held.value[at.value - 1]
    if (last?.title === typedTitle) {
      steps.value = [...held.value.slice(0, -1), { title: typedTitle, text: after }]
      at.value = steps.value.length
      void save()
    } else put(typedTitle, after)
  }

  function undo() {
    if (at.value > 0) at.value--
    void save()
  }
  function redo() {
    if (at.value < steps.value.length) at.value++
    void save()
  }
  /** Drops what is pending; redo brings it back as long as nothing else is done. */
  function drop() {
    at.value = 0
    void save()
  }
  const canUndo = computed(() => at.value > 0)
  const canRedo = computed(() => at.value < steps.value.length)

  /** Goes on from the revision that was kept meanwhile, with this text. */
  function goOn() {
    base.value = kept.value?.revision ?? 0
    void save()
  }

  async function keep(note: string): Promise<Declaration> {
    busy.value = true
    try {
      const said =
        note.trim() ||
        held.value
          .map((s) => s.title)
          .filter((t) => t !== typedTitle)
          .join('; ')
          .slice(0, 300)
      const d = await ask(api.PUT('/api/declaration', { body: { text: text.value, message: said, base: base.value } }))
      kept.value = d
      steps.value = []
      at.value = 0
      effect.value = null
      saveNow()
      return d
    } finally {
      busy.value = false
    }
  }

  let turn = 0
  async function check() {
    const mine = ++turn
    if (!pending.value) {
      effect.value = null
      checking.value = false
      problem.value = ''
      return
    }
    checking.value = true
    try {
      const e = await ask(api.POST('/api/declaration/check', { body: { text: text.value } }))
      if (mine !== turn) return
      effect.value = e
      problem.value = ''
    } catch (e) {
      if (mine === turn) problem.value = message(e)
    } finally {
      if (mine === turn) checking.value = false
    }
  }
  const checkSoon = useDebounceFn(check, 200)
  watch(
    () => [text.value, kept.value?.revision, pending.value],
    () => {
      if (pending.value) checking.value = true
      void checkSoon()
    },
  )

  return {
    kept: computed(() => kept.value),
    base: computed(() => base.value),
    effect: computed(() => effect.value),
    checking: computed(() => checking.value),
    problem: computed(() => problem.value),
    busy: computed(() => busy.value),
    text,
    pending,
    held,
    stale,
    messages,
    open,
    errors,
    canUndo,
    canRedo,
    load,
    put,
    edit,
    typed,
    undo,
    redo,
    drop,
    goOn,
    keep,
  }
})
