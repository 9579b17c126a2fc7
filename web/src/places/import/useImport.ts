import { useMessage } from 'naive-ui'
import { storeToRefs } from 'pinia'
import { computed, inject, provide, ref, watch, type InjectionKey } from 'vue'
import { useRouter } from 'vue-router'
import {
  api,
  ask,
  message,
  type ImportPreview,
  type ImportRequest,
  type RouteEffect,
  type Sensitivity,
  type Target,
} from '../../api/client'
import { usePending } from '../../stores/pending'
import { useWorkspace } from '../../stores/workspace'
import { plural } from '../../parts/words'

type Item = ImportPreview['items'][number]
export interface Row extends Item {
  take: boolean
  say: { effect: RouteEffect | ''; sensitivity: Sensitivity | ''; group: string }
  useSample: boolean
}

export const kinds = [
  { value: '', label: 'found out from the text' },
  { value: 'openapi', label: 'OpenAPI 3.0 or 3.1' },
  { value: 'har', label: 'HAR 1.2, from a browser' },
  { value: 'log', label: 'Access log: Common, Combined, JSON lines' },
  { value: 'csv', label: 'Table: CSV with a row of names' },
  { value: 'lines', label: 'Lines: METHOD /path' },
]
export const kindName = (k: string) => kinds.find((x) => x.value === k)?.label ?? k

export const states = [
  { id: 'unclear', name: 'unclear', means: 'Look at these: what they are is a guess' },
  { id: 'new', name: 'new', means: 'The inventory does not have them' },
  { id: 'changed', name: 'changed', means: 'Known, and something is said that differs' },
  { id: 'gone', name: 'gone', means: 'The declaration has them from this file, and the file does not any more' },
  { id: 'same', name: 'the same', means: 'Known as they are' },
] as const

/** An import under way: what was brought, what it would add, and what of it is taken. */
function importing() {
  const { text } = storeToRefs(usePending())
  const { edit } = usePending()
  const { board } = storeToRefs(useWorkspace())
  const router = useRouter()
  const toast = useMessage()
  const files = ref<{ name: string; text: string }[]>([])
  const pasted = ref('')
  const kind = ref('')
  const host = ref('')
  const origin = ref('') // that somebody chose; empty is found out
  const mapping = ref({ method: '', path: '', status: '', host: '' })
  const templates = ref<string[]>([])
  const said = ref<Record<string, boolean>>({}) // of unclear places, that their segments are values
  const preview = ref<ImportPreview | null>(null)
  const rows = ref<Row[]>([])
  const proposals = ref<string[]>([])
  const error = ref('')
  const busy = ref(false)
  const targets = ref<Target[]>([])
  const shown = ref('')

  void (async () => {
    try {
      targets.value = await ask(api.GET('/api/targets'))
    } catch {
      // Without targets there is only the base.
    }
  })()

  const hosts = computed(() => [
    { value: '', label: 'the base of the target' },
    ...[...new Set(targets.value.flatMap((t) => Object.keys(t.hosts)))].map((h) => ({
      value: h,
      label: `the host ${h}`,
    })),
  ])
  const origins = computed(() =>
    Object.entries(preview.value?.origins ?? {})
      .sort((a, b) => b[1] - a[1])
      .map(([o, n]) => ({ value: o, label: `${o || '(no host in the log)'}: ${n} requests` })),
  )
  function request(): ImportRequest {
    return {
      files: files.value,
      kind: kind.value,
      host: host.value,
      origin: origin.value,
      mapping: mapping.value,
      templates: templates.value,
      said: said.value,
      text: text.value,
    }
  }

  let turn = 0
  async function look() {
    const mine = ++turn
    if (!files.value.length) return
    busy.value = true
    error.value = ''
    try {
      const p = await ask(api.POST('/api/import/preview', { body: request() }))
      if (mine !== turn) return
      const was = new Map(rows.value.map((r) => [r.key, r]))
      preview.value = p
      proposals.value = proposals.value.filter((id) => p.proposals.some((x) => x.id === id))
      rows.value = p.items.map((i) => {
        const old = was.get(i.key)
        return {
          ...i,
          // What is no longer a guess is taken as any other, whatever it was before.
          take: old?.state === i.state ? old.take : i.state === 'new' || i.state === 'changed',
          say: old?.say ?? { effect: i.effect ?? '', sensitivity: i.sensitivity ?? '', group: i.group },
          useSample: old?.useSample ?? i.sample !== '',
        }
      })
    } catch (e) {
      if (mine === turn) {
        error.value = message(e)
        preview.value = null
        rows.value = []
      }
    } finally {
      if (mine === turn) busy.value = false
    }
  }
  watch([kind, host], () => void look())
  async function take(list: FileList | null | undefined) {
    if (!list?.length) return
    const out = []
    for (const f of list) out.push({ name: f.name, text: await f.text() })
    await begin(out)
  }
  async function paste() {
    await begin([{ name: '', text: pasted.value }])
  }
  async function begin(list: ImportRequest['files']) {
    files.value = list
    templates.value = []
    said.value = {}
    origin.value = ''
    await look()
  }
  function again() {
    files.value = []
    preview.value = null
    rows.value = []
    error.value = ''
    kind.value = ''
  }
  /** Templates correct how paths were folded; the last one said comes first. */
  async function correct(path: string) {
    templates.value = [path, ...templates.value.filter((t) => t !== path)]
    await look()
  }

  /** What is unclear, each place once with the routes that an answer decides. */
  const questions = computed(() => {
    const by = new Map<string, { under: string; note: string; keys: string[] }>()
    for (const r of rows.value) {
      if (!r.under || r.state !== 'unclear') continue
      const q = by.get(r.under) ?? { under: r.under, note: r.note, keys: [] }
      q.keys.push(r.key)
      by.set(r.under, q)
    }
    return [...by.values()]
  })
  /** Answers one, or takes the answer back. */
  async function answer(under: string, values?: boolean) {
    const now = { ...said.value }
    if (values === undefined) Reflect.deleteProperty(now, under)
    else now[under] = values
    said.value = now
    await look()
  }

  const counts = computed(() => {
    const out: Record<string, number> = {}
    for (const r of rows.value) out[r.state] = (out[r.state] ?? 0) + 1
    return out
  })
  const visible = computed(() => rows.value.filter((r) => (shown.value ? r.state === shown.value : r.state !== 'same')))
  const taken = computed(() => rows.value.filter((r) => r.take && r.state !== 'same'))
  const whole = computed(() => preview.value?.kind === 'openapi')
  function all(on: boolean) {
    for (const r of visible.value) r.take = on
  }
  async function bring() {
    busy.value = true
    try {
      const take = taken.value.map((x) => ({
        key: x.key,
        effect: x.say.effect || undefined,
        sensitivity: x.say.sensitivity || undefined,
        group: x.say.group,
        sample: x.useSample,
      }))
      const from = preview.value?.name ? ` from ${preview.value.name}` : ''
      const r = await edit(
        () => ask(api.POST('/api/import', { body: { request: request(), take, proposals: proposals.value } })),
        (r) => `Bring in ${plural(r.count, 'route')}${from}`,
      )
      toast.success(
        `${r.count} ${r.count === 1 ? 'route is' : 'routes are'} in the text now. See what changes, then keep it.`,
      )
      await router.push({ name: board.value?.empty ? 'declaration' : 'board' })
    } catch (e) {
      error.value = message(e)
    } finally {
      busy.value = false
    }
  }

  return {
    files,
    pasted,
    kind,
    host,
    origin,
    mapping,
    preview,
    rows,
    proposals,
    error,
    busy,
    shown,
    hosts,
    origins,
    counts,
    visible,
    taken,
    whole,
    look,
    take,
    paste,
    again,
    correct,
    questions,
    said,
    answer,
    all,
    bring,
  }
}

const key: InjectionKey<ReturnType<typeof importing>> = Symbol('import')

/** Begins an import for a place and its parts. */
export function provideImport() {
  const im = importing()
  provide(key, im)
  return im
}

/** The import that a part belongs to. */
export function useImport() {
  const im = inject(key)
  if (!im) throw new Error('there is no import here')
  return im
}
