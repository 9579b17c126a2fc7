<script setup lang="ts">
import { X } from '@lucide/vue'
import { NButton, NInput, NSelect, useMessage } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { api, ask, message, type Sheet } from '../api/client'
import { usePending } from '../stores/pending'
import { useWorkspace } from '../stores/workspace'
import { storeToRefs } from 'pinia'

const { pending, text } = storeToRefs(usePending())
const { edit } = usePending()
const { version } = storeToRefs(useWorkspace())

// Everything that is said about one route: who, how, how long, from where, how
// often, each with the line that says it.
const props = defineProps<{ route: string }>()
const emit = defineEmits<{ close: [] }>()
const toast = useMessage()
const s = ref<Sheet | null>(null)
const error = ref('')
const sample = ref('')
const group = ref('')
const summary = ref('')
const showAll = ref(false)

let turn = 0
watch(
  () => [props.route, text.value, version.value],
  async () => {
    const mine = ++turn
    try {
      const x = await ask(
        pending.value
          ? api.POST('/api/routes/sheet', { body: { text: text.value, route: props.route } })
          : api.GET('/api/routes/sheet', { params: { query: { route: props.route } } }),
      )
      if (mine !== turn) return
      s.value = x
      sample.value = x.sample === '{}' ? '' : x.sample
      group.value = x.group
      summary.value = x.summary
      error.value = ''
    } catch (e) {
      if (mine === turn) error.value = message(e)
    }
  },
  { immediate: true },
)
async function set(field: string, value: string) {
  try {
    await edit(
      (t) => ask(api.POST('/api/routes/edit', { body: { text: t, route: props.route, field, value } })),
      (r) => r.title,
    )
  } catch (e) {
    toast.error(message(e), { duration: 8000 })
  }
}
const example = '{ "json": { "name": "value" } }'
const effects = ['read', 'create', 'update', 'delete', 'command'].map((v) => ({ label: v, value: v }))
const levels = ['low', 'medium', 'high'].map((v) => ({ label: v, value: v }))
const inside = computed(() => s.value?.reach.filter((r) => r.admitted) ?? [])
const outside = computed(() => s.value?.reach.filter((r) => !r.admitted) ?? [])
</script>

<template>
  <aside class="drawer" aria-label="Route sheet">
    <div class="body">
      <div class="top">
        <div class="faint">everything that is said about</div>
        <button class="bare close" aria-label="Close the sheet" @click="emit('close')"><X :size="16" /></button>
      </div>
      <h1 class="mono route">{{ route }}</h1>
      <p v-if="error" class="bad">{{ error }}</p>
      <template v-if="s">
        <p v-if="s.from" class="faint">
          imported from <span class="mono">{{ s.from }}</span>
        </p>
        <div class="fields">
          <label>Summary</label>
          <NInput
            v-model:value="summary"
            size="small"
            placeholder="What it is for"
            :input-props="{ 'aria-label': 'Summary' }"
            @change="set('summary', summary)"
          />
          <label>Effect</label>
          <NSelect
            size="small"
            :value="s.effect"
            :options="effects"
            :input-props="{ 'aria-label': 'Effect' }"
            aria-label="Effect"
            @update:value="(v: string) => set('effect', v)"
          />
          <label>Sensitivity</label>
          <NSelect
            size="small"
            :value="s.sensitivity"
            :options="levels"
            :input-props="{ 'aria-label': 'Sensitivity' }"
            aria-label="Sensitivity"
            @update:value="(v: string) => set('sensitivity', v)"
          />
          <label>Group</label>
          <NInput
            v-model:value="group"
            size="small"
            placeholder="What it belongs to"
            :input-props="{ 'aria-label': 'Group' }"
            @change="set('group', group)"
          />
        </div>

        <section v-for="p in s.parts" :key="p.title">
          <h2>{{ p.title }}</h2>
          <p v-if="!p.lines.length" class="faint">{{ p.none }}</p>
          <div v-for="(l, i) in p.lines" :key="i" class="said">
            <div>
              <b>{{ l.text }}</b> <span v-if="l.detail" class="faint">{{ l.detail }}</span>
            </div>
            <RouterLink v-if="l.line" class="where" :to="{ name: 'declaration', query: { line: l.line, file: l.file } }"
              >line {{ l.line }}</RouterLink
            >
          </div>
        </section>

        <section>
          <h2>Who reaches it</h2>
          <ul class="reach">
            <li v-for="r in inside" :key="r.caller">
              <b>{{ r.caller }}</b>
              <span>{{ r.depends ? `${r.outcome}: ` : '' }}{{ r.why }}</span>
            </li>
          </ul>
          <p v-if="!inside.length" class="faint">No caller.</p>
          <button v-if="outside.length" class="bare link" :aria-expanded="showAll" @click="showAll = !showAll">
            {{ showAll ? 'Hide' : 'Show' }} the {{ outside.length }} who are turned away
          </button>
          <ul v-if="showAll" class="reach out">
            <li v-for="r in outside" :key="r.caller">
              <b>{{ r.caller }}</b> <span>{{ r.outcome }}: {{ r.why }}</span>
            </li>
          </ul>
        </section>

        <section v-if="s.messages.length">
          <h2>What the review says</h2>
          <p v-for="m in s.messages" :key="m.key">
            <b :class="{ bad: m.severity === 'high' && !m.waived }">{{ m.waived ? 'waived' : m.severity }}</b>
            {{ m.text }}
            <span v-if="m.waived" class="faint">{{ m.waived.reason }} (until {{ m.waived.until }})</span>
          </p>
        </section>

        <section>
          <h2>What to send</h2>
          <NInput
            v-model:value="sample"
            type="textarea"
            class="mono"
            :autosize="{ minRows: 2, maxRows: 14 }"
            :placeholder="example"
            :input-props="{ 'aria-label': 'What to send, as JSON', spellcheck: false }"
          />
          <div class="acts">
            <NButton
              size="small"
              :disabled="sample === (s.sample === '{}' ? '' : s.sample)"
              @click="set('send', sample)"
              >Write the sample</NButton
            >
            <span v-if="s.parameters.length" class="faint">parameters: {{ s.parameters.join(', ') }}</span>
          </div>
        </section>

        <section v-if="s.neighbours.length">
          <h2>Other methods of this path</h2>
          <RouterLink
            v-for="n in s.neighbours"
            :key="n"
            class="mono next"
            :to="{ name: 'board', query: { ...$route.query, sheet: n } }"
            >{{ n }}</RouterLink
          >
        </section>
      </template>
    </div>
  </aside>
</template>

<style scoped>
.drawer {
  width: 440px;
  flex: none;
  display: flex;
  flex-direction: column;
  background: var(--sheet);
  border-left: 1px solid var(--line);
  box-shadow: var(--shadow);
}
.body {
  flex: 1;
  overflow: auto;
  padding: 14px 18px;
}
.top {
  display: flex;
  justify-content: space-between;
}
.close {
  color: var(--faint);
  height: 18px;
}
.route {
  font: 650 14px/20px var(--mono);
  overflow-wrap: anywhere;
  margin: 2px 0 8px;
}
.fields {
  display: grid;
  grid-template-columns: 86px minmax(0, 1fr);
  gap: 6px 8px;
  align-items: center;
  margin-bottom: 16px;
}
.fields label {
  color: var(--faint);
  font-size: 13px;
}
section {
  margin-bottom: 14px;
}
.said {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  padding: 2px 0;
}
.said b {
  font-weight: 600;
}
.where {
  white-space: nowrap;
  font-size: 13px;
}
.reach {
  list-style: none;
  margin: 0 0 4px;
  padding: 0;
}
.reach li {
  display: grid;
  grid-template-columns: 96px minmax(0, 1fr);
  gap: 8px;
  padding: 1px 0;
}
.reach li span {
  color: var(--faint);
}
.link {
  color: var(--mill);
}
.acts {
  display: flex;
  gap: 12px;
  align-items: center;
  margin-top: 6px;
}
.next {
  display: block;
}
.bad {
  color: var(--U);
}
p {
  margin: 0 0 4px;
}
</style>
