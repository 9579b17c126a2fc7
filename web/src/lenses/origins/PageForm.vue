<script setup lang="ts">
import { NButton, NCheckbox, NInput } from 'naive-ui'
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { api, ask } from '../../api/client'
import { useAsk } from '../../composables/useAsk'
import WroteLines from '../../parts/WroteLines.vue'
import { useDraft } from '../../composables/useDraft'
import { usePending } from '../../stores/pending'

// What pages of one origin may do, as a line of fields.
const props = defineProps<{
  row: { line: number; at: string[]; was: string; members: Record<string, string>; first: boolean }
}>()
const draft = defineModel<string>('draft', { required: true })
const emit = defineEmits<{ close: [] }>()
const pending = usePending()

const members = ['methods', 'headers', 'expose', 'credentials', 'max_age']
const said = computed(() => ({ at: props.row.at.join(', '), page: props.row.was, ...props.row.members }))
const list = (at: string) =>
  at
    .split(/,\s+/)
    .map((s) => s.trim())
    .filter(Boolean)
const {
  form,
  changed,
  error,
  fresh,
  draft: text,
  lines,
  put,
  reset,
} = useDraft(
  ['at', 'page', ...members],
  () => said.value,
  () => `${props.row.line} ${props.row.was}`,
  async (before, set, all) => {
    const { at, page, ...rest } = set
    if (page === '') throw new Error('Write the origin of the pages, or take the permission away.')
    return edit(before, { at: at === undefined && props.row.line ? [] : list(all['at'] ?? ''), set: rest }, all['page'])
  },
)
watch(text, (t) => (draft.value = t))
onBeforeUnmount(() => (draft.value = '')) // what nobody sees any more is not shown on the board either
function edit(before: string, of: { at: string[]; set: Record<string, string> }, page = '') {
  return ask(
    api.POST('/api/origins/edit', { body: { text: before, line: props.row.line, was: props.row.was, page, ...of } }),
  )
}
const begun = computed(() => !!form['page']?.trim() && !!form['at']?.trim())
function write() {
  if (!changed.value || !fresh.value || error.value) return
  put()
  emit('close')
}
const { busy, run } = useAsk()
async function away() {
  await run(async () => {
    await pending.edit(
      (t) => edit(t, { at: [], set: {} }),
      (r) => r.title,
    )
    emit('close')
  })
}
function leave() {
  reset()
  emit('close')
}

const fields: Record<string, { label: string; hint: string }> = {
  at: { label: 'at', hint: 'GET /things/**' },
  page: { label: 'page', hint: 'https://app.example' },
  methods: { label: 'methods', hint: 'GET' },
  headers: { label: 'may set', hint: 'none' },
  expose: { label: 'may read', hint: 'none' },
  credentials: { label: 'cookies', hint: '' },
  max_age: { label: 'kept for', hint: 'no' },
}
const first = ref<HTMLElement | null>(null)
onMounted(() => void nextTick(() => first.value?.querySelectorAll('input')[props.row.line ? 1 : 0]?.focus()))
</script>

<template>
  <tr ref="first" class="on" @keydown.enter.prevent="write" @keydown.esc.stop="leave">
    <td v-for="(f, n) in fields" :key="n">
      <NCheckbox
        v-if="n === 'credentials'"
        :checked="form[n] === 'true'"
        :aria-label="f.label"
        @update:checked="(on: boolean) => (form[n] = on ? 'true' : '')"
      />
      <NInput
        v-else
        v-model:value="form[n]"
        size="tiny"
        class="mono"
        :placeholder="f.hint"
        :input-props="{ 'aria-label': f.label, spellcheck: false }"
      />
    </td>
    <td></td>
  </tr>
  <tr class="on acts">
    <td colspan="8">
      <NButton size="tiny" type="primary" :disabled="!changed || !fresh || !!error" @click="write">{{
        row.was ? 'Change it' : 'Add it'
      }}</NButton>
      <NButton size="tiny" @click="leave">As it is</NButton>
      <NButton v-if="row.was" size="tiny" :loading="busy" @click="away">Take it away</NButton>
      <NButton v-else-if="row.line && row.first" size="tiny" :loading="busy" @click="away">Take the entry away</NButton>
      <span v-if="error && changed && begun" class="bad" role="alert">{{ error }}</span>
      <WroteLines :lines="lines" />
    </td>
  </tr>
</template>

<style scoped>
.on {
  background: var(--sheet);
}
td {
  padding: 2px 8px 2px 0;
}
.acts button {
  margin-right: 8px;
}
.bad {
  color: var(--U);
}
</style>
