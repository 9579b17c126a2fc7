<script setup lang="ts">
import { NButton, NCheckbox, NInput, NSelect, useMessage } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, message, type ImportPreview, type ImportRequest, type Target } from '../../api/client'
import { put, text } from '../../state/pending'
import { board } from '../../state/workspace'

type Item = ImportPreview['items'][number]
interface Row extends Item {
  take: boolean
  say: { effect: string; sensitivity: string; group: string }
  useSample: boolean
}

defineProps<{ embedded?: boolean }>()
const emit = defineEmits<{ begun: [yes: boolean] }>()
const router = useRouter()
const toast = useMessage()
const files = ref<{ name: string; text: string }[]>([])
const pasted = ref('')
const kind = ref('')
const host = ref('')
const origin = ref('')
const mapping = ref({ method: '', path: '', status: '', host: '' })
const templates = ref<string[]>([])
const preview = ref<ImportPreview | null>(null)
const rows = ref<Row[]>([])
const proposals = ref<string[]>([])
const error = ref('')
const busy = ref(false)
const over = ref(false)
const input = ref<HTMLInputElement | null>(null)
const targets = ref<Target[]>([])
const shown = ref('')
const correcting = ref('')
const correction = ref('')

void (async () => {
  try {
    targets.value = await ask(api.GET('/api/targets'))
  } catch {
    // Without targets there is only the base.
  }
})()

const kinds = [
  { value: '', label: 'found out from the text' },
  { value: 'openapi', label: 'OpenAPI 3.0 or 3.1' },
  { value: 'har', label: 'HAR 1.2, from a browser' },
  { value: 'log', label: 'Access log: Common, Combined, JSON lines' },
  { value: 'csv', label: 'Table: CSV with a row of names' },
  { value: 'lines', label: 'Lines: METHOD /path' },
]
const kindName = (k: string) => kinds.find((x) => x.value === k)?.label ?? k
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
        take: old?.take ?? (i.state === 'new' || i.state === 'changed'),
        say: old?.say ?? { effect: i.effect, sensitivity: i.sensitivity, group: i.group },
        useSample: old?.useSample ?? i.sample !== '',
      }
    })
    origin.value = p.origin
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
watch(
  () => files.value.length > 0,
  (b) => emit('begun', b),
)

async function take(list: FileList | null | undefined) {
  if (!list?.length) return
  const out = []
  for (const f of list) out.push({ name: f.name, text: await f.text() })
  files.value = out
  templates.value = []
  origin.value = ''
  if (input.value) input.value.value = ''
  await look()
}
async function paste() {
  files.value = [{ name: '', text: pasted.value }]
  templates.value = []
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
function correct(r: Row) {
  correcting.value = r.key
  correction.value = r.key.split(' ')[1] ?? ''
}
async function useCorrection() {
  const path = correction.value.trim().replace(/^[^/]*:(?=\/)/, '')
  correcting.value = ''
  if (!path) return
  templates.value = [path, ...templates.value.filter((t) => t !== path)]
  await look()
}
async function apart(path: string) {
  templates.value = [path, ...templates.value]
  correcting.value = ''
  await look()
}

const states = [
  { id: 'unclear', name: 'unclear', means: 'Look at these: what they are is a guess' },
  { id: 'new', name: 'new', means: 'The inventory does not have them' },
  { id: 'changed', name: 'changed', means: 'Known, and something is said that differs' },
  { id: 'gone', name: 'gone', means: 'The declaration has them from this file, and the file does not any more' },
  { id: 'same', name: 'the same', means: 'Known as they are' },
] as const
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
const effects = ['', 'read', 'create', 'update', 'delete', 'command'].map((v) => ({
  value: v,
  label: v || 'by its method',
}))
const levels = ['', 'low', 'medium', 'high'].map((v) => ({ value: v, label: v || 'medium' }))

async function bring() {
  busy.value = true
  try {
    const r = await ask(
      api.POST('/api/import', {
        body: {
          request: request(),
          take: taken.value.map((x) => ({ key: x.key, ...x.say, sample: x.useSample })),
          proposals: proposals.value,
        },
      }),
    )
    put(
      `Bring in ${r.count} ${r.count === 1 ? 'route' : 'routes'}${preview.value?.name ? ` from ${preview.value.name}` : ''}`,
      r.text,
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
</script>

<template>
  <div :class="{ place: !embedded }">
    <header>
      <h1>Bring in routes</h1>
      <p v-if="embedded" class="faint">
        Mill Gate needs to know which routes there are. Then you say who may call them, and it shows where the service
        does otherwise.
      </p>
      <p v-else class="faint">
        Nothing is kept before you say so: the routes become a pending edit of the declaration, and what it changes is
        shown first.
      </p>
    </header>

    <div v-if="!files.length" class="ways">
      <section
        class="drop sheet"
        :class="{ over }"
        @dragover.prevent="over = true"
        @dragleave="over = false"
        @drop.prevent="((over = false), take($event.dataTransfer?.files))"
      >
        <h2>A file</h2>
        <p>
          OpenAPI 3.0 or 3.1 with the files it refers to, a HAR archive from a browser, an access log, or a table. Drop
          it here.
        </p>
        <input
          ref="input"
          type="file"
          multiple
          class="visually-hidden"
          aria-label="Files to import"
          tabindex="-1"
          @change="take(($event.target as HTMLInputElement).files)"
        />
        <NButton type="primary" @click="input?.click()">Choose a file</NButton>
      </section>
      <section class="sheet by-hand">
        <h2>By hand, or pasted</h2>
        <NInput
          v-model:value="pasted"
          type="textarea"
          :rows="8"
          class="mono"
          placeholder="GET /v1/things  All things&#10;GET /v1/things/{thing_id}&#10;DELETE /v1/things/{thing_id}"
          :input-props="{ 'aria-label': 'Routes, one in a line, or a pasted text', spellcheck: false }"
        />
        <NButton :disabled="!pasted.trim()" @click="paste">Look at it</NButton>
      </section>
    </div>

    <template v-else>
      <div class="bar">
        <b>{{ files[0]!.name || 'Pasted text' }}</b>
        <span v-if="files.length > 1" class="faint">with {{ files.length - 1 }} more</span>
        <label
          >read as
          <NSelect
            v-model:value="kind"
            size="small"
            class="sel"
            :options="kinds"
            aria-label="What it is"
            :consistent-menu-width="false"
        /></label>
        <label v-if="hosts.length > 1"
          >served by
          <NSelect
            v-model:value="host"
            size="small"
            class="sel"
            :options="hosts"
            aria-label="Which host"
            :consistent-menu-width="false"
        /></label>
        <label v-if="origins.length > 1"
          >requests to
          <NSelect
            :value="origin"
            size="small"
            class="sel"
            :options="origins"
            aria-label="Which origin"
            :consistent-menu-width="false"
            @update:value="(v: string) => ((origin = v), look())"
        /></label>
        <NButton size="small" class="end" @click="again">Take another</NButton>
      </div>
      <p v-if="busy && !preview" class="faint" role="status">Reading it …</p>
      <div v-if="error" class="sheet wrong" role="alert">
        <p><b>It could not be read.</b> {{ error }}</p>
        <p class="faint">Choose what it is above, or take another file. Nothing was changed.</p>
      </div>
      <div v-if="preview?.kind === 'log' || (error && kind === 'log')" class="mapping">
        <span class="faint">Fields of JSON lines, where they are not found out:</span>
        <NInput
          v-for="f in ['method', 'path', 'status', 'host'] as const"
          :key="f"
          v-model:value="mapping[f]"
          size="small"
          :placeholder="f"
          :input-props="{ 'aria-label': `Field with the ${f}` }"
          @change="look"
        />
      </div>
      <template v-if="preview">
        <p v-for="n in preview.notes" :key="n" class="faint">{{ n }}</p>
        <div class="states" role="group" aria-label="States">
          <button
            v-for="st in states.filter((x) => counts[x.id])"
            :key="st.id"
            class="chip"
            :class="{ on: shown === st.id }"
            :aria-pressed="shown === st.id"
            :title="st.means"
            @click="shown = shown === st.id ? '' : st.id"
          >
            {{ counts[st.id] }} {{ st.name }}
          </button>
          <span class="faint">read as {{ kindName(preview.kind) }}</span>
          <span v-if="!whole" class="end">
            <button class="bare link" @click="all(true)">take all shown</button>
            <button class="bare link" @click="all(false)">take none</button>
          </span>
        </div>
        <div class="sheet list">
          <table class="plain">
            <thead>
              <tr>
                <th v-if="!whole">Take</th>
                <th>Route</th>
                <th>State</th>
                <th>Effect</th>
                <th>Sensitivity</th>
                <th>Group</th>
                <th v-if="!whole">Seen</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="r in visible.slice(0, 500)" :key="r.key" :class="{ off: !whole && !r.take }">
                <td v-if="!whole">
                  <NCheckbox v-model:checked="r.take" :aria-label="`Take ${r.key}`" :disabled="r.state === 'same'" />
                </td>
                <td>
                  <div class="mono">{{ r.key }}</div>
                  <div v-if="r.summary" class="faint">{{ r.summary }}</div>
                  <div v-if="correcting === r.key" class="correct">
                    <NInput
                      v-model:value="correction"
                      size="small"
                      class="mono"
                      :input-props="{ 'aria-label': 'The template it belongs to', spellcheck: false }"
                      @keydown.enter="useCorrection"
                      @keydown.esc="correcting = ''"
                    />
                    <NButton size="small" @click="useCorrection">Use this template</NButton>
                    <div>
                      or keep one apart:
                      <button v-for="p in r.paths" :key="p" class="bare link mono" @click="apart(p)">{{ p }}</button>
                    </div>
                  </div>
                </td>
                <td>
                  <b :class="r.state">{{ r.state === 'same' ? 'the same' : r.state }}</b>
                  <div v-if="r.note" class="faint">{{ r.note }}</div>
                </td>
                <td>
                  <NSelect
                    v-model:value="r.say.effect"
                    size="tiny"
                    class="tiny"
                    :options="effects"
                    :aria-label="`Effect of ${r.key}`"
                    :consistent-menu-width="false"
                  />
                </td>
                <td>
                  <NSelect
                    v-model:value="r.say.sensitivity"
                    size="tiny"
                    class="tiny"
                    :options="levels"
                    :aria-label="`Sensitivity of ${r.key}`"
                    :consistent-menu-width="false"
                  />
                </td>
                <td>
                  <NInput
                    v-model:value="r.say.group"
                    size="tiny"
                    class="tiny"
                    placeholder=""
                    :input-props="{ 'aria-label': `Group of ${r.key}` }"
                  />
                </td>
                <td v-if="!whole">
                  <template v-if="r.count">
                    {{ r.count }} ×
                    <span v-if="r.key.includes('{')" class="mono faint">{{ r.paths.slice(0, 2).join(' ') }}</span>
                    <button v-if="r.state !== 'same'" class="bare link" @click="correct(r)">correct</button>
                  </template>
                  <div v-if="r.sample">
                    <NCheckbox v-model:checked="r.useSample" size="small">as its sample</NCheckbox>
                  </div>
                </td>
              </tr>
            </tbody>
          </table>
          <p v-if="!visible.length" class="faint none">
            {{ rows.length ? 'Every route of it is known as it is.' : 'There is no route in it.' }}
          </p>
          <p v-if="visible.length > 500" class="faint none">and {{ visible.length - 500 }} more</p>
        </div>

        <section v-if="preview.proposals.length" class="sheet props">
          <h2>What it says about who may call</h2>
          <p class="faint">
            The file's own claims. None is taken unless you choose it, and what is chosen is reviewed like any rule.
          </p>
          <div v-for="p in preview.proposals" :key="p.id" class="prop">
            <NCheckbox
              :checked="proposals.includes(p.id)"
              @update:checked="
                (v: boolean) => (proposals = v ? [...proposals, p.id] : proposals.filter((x) => x !== p.id))
              "
              >{{ p.title }}</NCheckbox
            >
            <div>
              <code class="mono">{{ p.text.length > 300 ? p.text.slice(0, 300) + ' …' : p.text }}</code>
              <div class="faint">{{ p.note }}</div>
            </div>
          </div>
        </section>

        <section v-if="preview.problems.length" class="sheet props" aria-label="What could not be read">
          <h2>{{ preview.problems.length }} could not be read; the rest is above</h2>
          <p v-for="(p, i) in preview.problems" :key="i">
            <span v-if="p.line" class="mono faint">line {{ p.line }}</span> {{ p.text }}
          </p>
        </section>

        <div class="go">
          <NButton
            type="primary"
            :loading="busy"
            :disabled="!whole && !taken.length && !proposals.length"
            @click="bring"
            >{{
              whole
                ? `Bring in the file with ${rows.filter((r) => r.state !== 'gone').length} routes`
                : `Bring in ${taken.length} ${taken.length === 1 ? 'route' : 'routes'}`
            }}</NButton
          >
          <span class="faint">It becomes a pending edit.</span>
        </div>
      </template>
    </template>
  </div>
</template>

<style scoped>
header {
  margin-bottom: 16px;
}
.ways {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 16px;
  max-width: 1000px;
}
.ways section {
  padding: 16px 18px;
}
.drop {
  border: 1.5px dashed var(--mark);
  display: grid;
  align-content: center;
  justify-items: start;
  padding-left: 40px !important;
}
.drop.over {
  border-color: var(--mill);
  background: var(--mill-soft);
}
.by-hand {
  display: grid;
  gap: 8px;
  justify-items: start;
}
h2 {
  color: var(--ink);
}
p {
  margin: 0 0 8px;
}
.bar {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 20px;
  align-items: center;
  margin-bottom: 10px;
}
.bar label {
  display: flex;
  gap: 8px;
  align-items: center;
  color: var(--faint);
  white-space: nowrap;
}
.sel {
  min-width: 190px;
}
.end {
  margin-left: auto;
  display: flex;
  gap: 12px;
}
.wrong {
  padding: 12px 16px;
  border-left: 4px solid var(--U);
  margin-bottom: 12px;
}
.mapping {
  display: grid;
  grid-template-columns: auto repeat(4, 130px);
  gap: 8px;
  align-items: center;
  margin-bottom: 10px;
}
.states {
  display: flex;
  gap: 8px;
  align-items: center;
  margin-bottom: 8px;
}
.chip {
  height: 26px;
  padding: 0 10px;
  border: 1px solid var(--line);
  border-radius: 4px;
  background: var(--sheet);
  color: var(--ink);
  font: inherit;
  font-size: 13px;
  cursor: pointer;
}
.chip.on {
  border-color: var(--mill);
  background: var(--mill-soft);
}
.link {
  color: var(--mill);
  margin: 0 6px;
}
.list {
  max-height: 56vh;
  overflow: auto;
  margin-bottom: 12px;
}
.list thead th {
  position: sticky;
  top: 0;
  background: var(--sheet);
  z-index: 1;
}
.list td {
  padding: 5px 12px;
}
.off .mono {
  color: var(--faint);
}
.unclear {
  color: var(--W);
}
.gone {
  color: var(--P);
}
.new {
  color: var(--mill);
}
.tiny {
  width: 124px;
}
.none {
  padding: 12px 16px;
}
.correct {
  display: grid;
  grid-template-columns: 260px auto;
  gap: 6px;
  padding: 6px 0;
}
.correct > div:last-child {
  grid-column: 1 / -1;
}
.props {
  padding: 12px 16px;
  margin-bottom: 12px;
}
.prop {
  display: grid;
  grid-template-columns: 260px minmax(0, 1fr);
  gap: 2px 12px;
  padding: 4px 0;
  border-top: 1px solid var(--hair);
}
.prop code {
  overflow-wrap: anywhere;
}
.go {
  display: flex;
  gap: 12px;
  align-items: center;
}
</style>
