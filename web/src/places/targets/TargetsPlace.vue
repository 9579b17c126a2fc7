<script setup lang="ts">
import { NButton, NInput, NRadio, NRadioGroup, useMessage } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { api, ask, message, type Connection, type Target } from '../../api/client'
import { useWorkspace } from '../../stores/workspace'
import { storeToRefs } from 'pinia'

const { version } = storeToRefs(useWorkspace())
const { refresh } = useWorkspace()

const toast = useMessage()
const list = ref<Target[]>([])
const blank: Target = {
  name: '',
  base: 'https://',
  hosts: {},
  values: {},
  direct: '',
  pace: '5 per 1s',
  unsafe: 'refused',
  askFor: [],
}
const form = ref<Target>(blank)
const chosen = ref(false)
const before = ref('')
const hosts = ref('')
const values = ref('')
const asks = ref('')
const fresh = ref(false)
const error = ref('')
const busy = ref(false)
const testing = ref(false)
const test = ref<Connection | null>(null)

const print = () => JSON.stringify([form.value, hosts.value, values.value, asks.value])
const changed = computed(() => chosen.value && print() !== before.value)

function lines(m: Record<string, string>) {
  return Object.entries(m)
    .map(([k, v]) => `${k}: ${v}`)
    .join('\n')
}
function map(text: string): Record<string, string> {
  const out: Record<string, string> = {}
  for (const l of text.split('\n').map((l) => l.trim())) {
    if (!l) continue
    const i = l.indexOf(':')
    if (i < 1) throw new Error(`"${l}" is not  name: value`)
    out[l.slice(0, i).trim()] = l.slice(i + 1).trim()
  }
  return out
}
function choose(t: Target, isNew = false) {
  form.value = { ...t }
  chosen.value = true
  hosts.value = lines(t.hosts)
  values.value = lines(t.values)
  asks.value = t.askFor.join('\n')
  fresh.value = isNew
  before.value = isNew ? '' : print()
  test.value = null
  error.value = ''
}
async function load() {
  try {
    list.value = await ask(api.GET('/api/targets'))
    if (!changed.value) {
      const t = list.value.find((t) => t.name === form.value.name) ?? list.value[0]
      if (t) {
        const kept = test.value
        choose(t)
        test.value = kept
      }
    }
  } catch (e) {
    error.value = message(e)
  }
}
watch(version, load, { immediate: true })

function add() {
  choose(blank, true)
}
async function keep() {
  const f = form.value
  busy.value = true
  error.value = ''
  try {
    if (fresh.value && list.value.some((t) => t.name === f.name.trim()))
      throw new Error(`There is a target called ${f.name} already.`)
    const body = {
      ...f,
      hosts: map(hosts.value),
      values: map(values.value),
      askFor: asks.value
        .split('\n')
        .map((s) => s.trim())
        .filter(Boolean),
    }
    const d = await ask(api.PUT('/api/targets', { body }))
    toast.success(`Kept as revision ${d.revision}.`)
    fresh.value = false
    form.value = { ...f, name: f.name.trim() }
    before.value = print()
    await refresh()
  } catch (e) {
    error.value = message(e)
  } finally {
    busy.value = false
  }
}
async function tryIt() {
  testing.value = true
  test.value = null
  error.value = ''
  try {
    test.value = await ask(api.POST('/api/targets/test', { body: { target: form.value.name } }))
  } catch (e) {
    error.value = message(e)
  } finally {
    testing.value = false
  }
}
const unsafe = [
  { value: 'refused', label: 'refused', says: 'nothing that could change something is sent' },
  {
    value: 'made-records-only',
    label: 'made records only',
    says: 'only on records made for the purpose, removed afterwards',
  },
  { value: 'allowed', label: 'allowed', says: 'for a service whose data may be lost' },
]
</script>

<template>
  <div class="split">
    <nav class="names" aria-label="Targets">
      <button
        v-for="t in list"
        :key="t.name"
        class="bare"
        :class="{ on: !fresh && form.name === t.name }"
        @click="choose(t)"
      >
        <b>{{ t.name }}</b><span class="faint mono">{{ t.base }}</span>
      </button>
      <p v-if="!list.length" class="faint">
        No target yet. A target is a running service that the declaration is checked against.
      </p>
      <NButton @click="add">Add a target</NButton>
    </nav>
    <form v-if="chosen" class="place" @submit.prevent="keep">
      <h1>{{ fresh ? 'New target' : form.name }}</h1>
      <p class="faint">
        Only these addresses are ever contacted, at no more than this pace. It is written into the declaration.
      </p>
      <div class="grid">
        <label for="t-name">Name</label>
        <NInput v-model:value="form.name" :disabled="!fresh" placeholder="staging" :input-props="{ id: 't-name' }" />
        <label for="t-base">Base address</label>
        <NInput v-model:value="form.base" class="mono" :input-props="{ id: 't-base', spellcheck: false }" />
        <label for="t-hosts">Other hosts</label>
        <div>
          <NInput
            v-model:value="hosts"
            type="textarea"
            :autosize="{ minRows: 1 }"
            class="mono"
            placeholder="id: https://id.staging.example"
            :input-props="{ id: 't-hosts', spellcheck: false }"
          /><small>one in a line, name: address; routes name them as id:/path</small>
        </div>
        <label for="t-values">Values</label>
        <div>
          <NInput
            v-model:value="values"
            type="textarea"
            :autosize="{ minRows: 1 }"
            class="mono"
            placeholder="issuer: https://id.staging.example"
            :input-props="{ id: 't-values', spellcheck: false }"
          /><small>what {name} stands for on this target</small>
        </div>
        <label for="t-pace">Pace</label>
        <div>
          <NInput v-model:value="form.pace" class="mono" :input-props="{ id: 't-pace' }" /><small
            >the most that is sent, for example 5 per 1s</small
          >
        </div>
        <span id="t-unsafe">Unsafe methods</span>
        <NRadioGroup v-model:value="form.unsafe" aria-labelledby="t-unsafe">
          <div v-for="u in unsafe" :key="u.value" class="radio">
            <NRadio :value="u.value" :label="u.label" /> <span class="faint">{{ u.says }}</span>
          </div>
        </NRadioGroup>
        <label for="t-ask">Also ask for</label>
        <div>
          <NInput
            v-model:value="asks"
            type="textarea"
            :autosize="{ minRows: 1 }"
            class="mono"
            placeholder="/internal/health"
            :input-props="{ id: 't-ask', spellcheck: false }"
          /><small>further paths, one in a line, that should not be served</small>
        </div>
      </div>
      <p v-if="error" class="bad" role="alert">{{ error }}</p>
      <div class="acts">
        <NButton type="primary" attr-type="submit" :disabled="!changed" :loading="busy">Keep target</NButton>
        <NButton :disabled="changed || fresh" :loading="testing" :title="changed ? 'Keep it first' : ''" @click="tryIt"
          >Test the connection</NButton
        >
      </div>
      <ul v-if="test" class="steps" aria-label="What the test showed">
        <li v-for="s in test.steps" :key="s.name">
          <b :class="s.ok ? 'fine' : 'bad'">{{ s.ok ? 'yes' : 'no' }}</b> <span>{{ s.name }}</span>
          <span class="faint">{{ s.text }}</span>
        </li>
      </ul>
    </form>
  </div>
</template>

<style scoped>
.split {
  height: 100%;
  display: grid;
  grid-template-columns: 260px minmax(0, 1fr);
}
.names {
  border-right: 1px solid var(--line);
  padding: 12px;
  display: flex;
  flex-direction: column;
  gap: 4px;
  align-items: stretch;
}
.names button.bare {
  display: grid;
  padding: 6px 8px;
  border-radius: 4px;
  overflow: hidden;
}
.names .mono {
  overflow: hidden;
  text-overflow: ellipsis;
}
.names .on {
  background: var(--sheet);
  box-shadow: inset 3px 0 0 var(--mill);
}
.names > :last-child {
  margin-top: 8px;
}
.grid {
  display: grid;
  grid-template-columns: 130px minmax(0, 520px);
  gap: 10px 16px;
  align-items: start;
  margin: 14px 0;
}
.grid > label,
.grid > span {
  padding-top: 5px;
}
small {
  color: var(--faint);
}
.radio {
  display: flex;
  gap: 8px;
  padding: 2px 0;
  white-space: nowrap;
}
.acts {
  display: flex;
  gap: 8px;
}
.bad {
  color: var(--U);
}
.fine {
  color: var(--ok);
}
.steps {
  list-style: none;
  padding: 0;
  max-width: 760px;
}
.steps li {
  display: grid;
  grid-template-columns: 32px 180px 1fr;
  padding: 3px 0;
  border-bottom: 1px solid var(--hair);
}
</style>
