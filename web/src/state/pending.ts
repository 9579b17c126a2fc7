import { computed, ref, shallowRef, watch } from 'vue'
import { api, ask, message, type Declaration, type Effect, type Message } from '../api/client'

/** One edit that is not kept yet, with the text as it is after it. */
export interface Step {
  title: string
  text: string
}

const key = 'millgate.pending'
const typedTitle = 'Typed in the editor'

export const kept = shallowRef<Declaration | null>(null)
export const steps = shallowRef<Step[]>([])
export const at = ref(0) // how many of the steps hold; the rest can be redone
export const base = ref(0) // the revision that the first step was made from
export const effect = shallowRef<Effect | null>(null)
export const checking = ref(false)
export const problem = ref('')
export const busy = ref(false)

/** The text as it would be kept. */
export const text = computed(() => (at.value > 0 ? steps.value[at.value - 1]!.text : (kept.value?.text ?? '')))
export const pending = computed(() => kept.value !== null && at.value > 0 && text.value !== kept.value.text)
export const held = computed(() => steps.value.slice(0, at.value))
export const stale = computed(() => pending.value && kept.value !== null && base.value !== kept.value.revision)
export const messages = computed<Message[]>(() =>
  pending.value && effect.value ? effect.value.messages : (kept.value?.messages ?? []),
)
export const open = computed(() => messages.value.filter((m) => !m.waived))
export const errors = computed(() => messages.value.filter((m) => m.level === 'error').length)

let loaded = false

/** Reads the kept text, and what was pending before a reload. */
export async function load(): Promise<void> {
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

let saving = 0
function save() {
  clearTimeout(saving)
  saving = window.setTimeout(saveNow, 300)
}
function saveNow() {
  clearTimeout(saving)
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
window.addEventListener('pagehide', saveNow)

/** Adds an edit behind those that hold. */
export function put(title: string, after: string) {
  if (after === text.value) return
  if (at.value === 0) base.value = kept.value?.revision ?? 0
  steps.value = [...held.value, { title, text: after }]
  at.value = steps.value.length
  save()
}

/** What somebody types is one edit, however long it takes. */
export function typed(after: string) {
  if (after === text.value) return
  const last = held.value[at.value - 1]
  if (last?.title === typedTitle) {
    steps.value = [...held.value.slice(0, -1), { title: typedTitle, text: after }]
    at.value = steps.value.length
    save()
  } else put(typedTitle, after)
}

export function undo() {
  if (at.value > 0) at.value--
  save()
}
export function redo() {
  if (at.value < steps.value.length) at.value++
  save()
}
/** Drops what is pending; redo brings it back as long as nothing else is done. */
export function drop() {
  at.value = 0
  save()
}
export const canUndo = computed(() => at.value > 0)
export const canRedo = computed(() => at.value < steps.value.length)

/** Goes on from the revision that was kept meanwhile, with this text. */
export function goOn() {
  base.value = kept.value?.revision ?? 0
  save()
}

export async function keep(note: string): Promise<Declaration> {
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
let timer = 0
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
watch(
  () => [text.value, kept.value?.revision, pending.value],
  () => {
    clearTimeout(timer)
    if (pending.value) checking.value = true
    timer = window.setTimeout(() => void check(), 200)
  },
)

/** What the pending text does, in a sentence. */
export function summary(e: Pick<Effect, 'total' | 'opens' | 'closes' | 'other' | 'added' | 'gone'>): string {
  if (!e.total && !e.added.length && !e.gone.length) return 'No crossing changes.'
  const parts = []
  if (e.closes) parts.push(`${e.closes} close`)
  if (e.opens) parts.push(`${e.opens} open`)
  if (e.other) parts.push(e.other === 1 ? '1 is refused another way' : `${e.other} are refused another way`)
  let s = `${e.total} ${e.total === 1 ? 'crossing changes' : 'crossings change'}${parts.length ? ': ' + parts.join(', ') : ''}.`
  if (e.added.length) s += ` ${e.added.length} ${e.added.length === 1 ? 'route is' : 'routes are'} new.`
  if (e.gone.length) s += ` ${e.gone.length} ${e.gone.length === 1 ? 'route goes' : 'routes go'}.`
  return s
}
