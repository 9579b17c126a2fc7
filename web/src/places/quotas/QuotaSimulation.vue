<script setup lang="ts">
import { NInput, NInputNumber, NSelect } from 'naive-ui'
import { computed, defineAsyncComponent, reactive, ref, watch } from 'vue'
import { api, ask, message, type Quota, type QuotaFor, type Simulated, type SimulationRequest } from '../../api/client'
import { span } from '../../parts/time'

const CallsChart = defineAsyncComponent(() => import('../../parts/CallsChart.vue'))

const props = defineProps<{ quota: Quota; amounts: QuotaFor; text: string }>()

const patterns = [
  { label: 'at the edges of windows', value: 'edges' },
  { label: 'evenly', value: 'steady' },
  { label: 'in bursts', value: 'bursts' },
  { label: 'as a log has it', value: 'log' },
]
const kinds = [
  { label: 'share one count', value: 0 },
  { label: 'tell each other every 10 s', value: 10 },
  { label: 'count alone', value: -1 },
]
// An emptied field has no number.
const form = reactive<{
  pattern: SimulationRequest['pattern']
  count: number | null
  every: number | null
  length: number | null
  nodes: number | null
  sync: number
  restart: number | null
  hold: number | null
  recorded: string
}>({
  pattern: 'edges',
  count: 20,
  every: 60,
  length: 600,
  nodes: 1,
  sync: 0,
  restart: 0,
  hold: 1,
  recorded: '',
})
const result = ref<Simulated | null>(null)
const error = ref('')
const table = ref(false)

// The picture spans a few windows of the first amount.
watch(
  () => props.quota.name + props.amounts.who,
  () => {
    const w = props.amounts.members[0]?.window ?? 0
    form.length = w > 0 ? Math.max(1, w * 3) : 60
    form.every = w > 0 ? w : 10
    form.count = Math.max(1, 3 * Number(/^\d+/.exec(props.amounts.members[0]?.amount ?? '')?.[0] ?? 10))
  },
  { immediate: true },
)

let turn = 0
watch(
  [form, () => props.text, () => props.quota, () => props.amounts],
  async () => {
    const mine = ++turn
    await new Promise((r) => setTimeout(r, 150)) // while somebody types
    if (mine !== turn) return
    if (form.pattern === 'log' && !form.recorded.trim()) {
      result.value = null
      error.value = ''
      return
    }
    try {
      const r = await ask(
        api.POST('/api/quotas/simulate', {
          body: {
            text: props.text,
            quota: props.quota.name,
            who: props.amounts.who,
            pattern: form.pattern,
            count: form.count ?? 0,
            every: form.every ?? 0,
            for: form.length ?? 0,
            nodes: form.nodes ?? 1,
            sync: form.sync,
            restart: form.restart ?? 0,
            hold: form.hold ?? 0,
            recorded: form.recorded,
          },
        }),
      )
      if (mine !== turn) return
      result.value = r
      error.value = ''
    } catch (e) {
      if (mine !== turn) return
      error.value = message(e)
    }
  },
  { deep: true, immediate: true },
)

const says = computed(() => {
  const r = result.value
  if (!r) return ''
  const parts = [`${r.came.toLocaleString()} calls: ${r.admitted.toLocaleString()} admitted at once`]
  if (r.queued) parts.push(`${r.queued.toLocaleString()} after a wait of up to ${span(r.longestWait)}`)
  parts.push(`${r.refused.toLocaleString()} refused`)
  let text = parts.join(', ') + '.'
  for (const p of r.peaks)
    text += ` In ${span(p.window)} at most ${p.most.toLocaleString()} began${p.ceiling >= 0 ? `; the ceiling is ${p.ceiling.toLocaleString()}` : ''}, ${p.limit.toLocaleString()} are declared.`
  if (r.cut) text += ' There were more calls than are simulated.'
  return text
})
function time(s: number): string {
  return s < 90 ? `${+s.toFixed(3)} s` : span(s)
}
</script>

<template>
  <section class="sheet sim">
    <h2>
      How a pattern of calls fares with <b>{{ quota.name }}</b>{{ amounts.who ? `, for ${amounts.who}` : '' }}
    </h2>
    <div class="form">
      <label
        >Calls come<NSelect v-model:value="form.pattern" size="small" :options="patterns" aria-label="How calls come"
      /></label>
      <template v-if="form.pattern === 'steady' || form.pattern === 'bursts'">
        <label
          >so many<NInputNumber v-model:value="form.count" size="small" :min="1" :precision="0" :show-button="false"
        /></label>
        <label
          >in each<NInputNumber v-model:value="form.every" size="small" :min="0.001" :show-button="false"
            ><template #suffix>s</template></NInputNumber
          ></label
        >
      </template>
      <label v-if="form.pattern !== 'log'"
        >for<NInputNumber v-model:value="form.length" size="small" :min="0.001" :show-button="false"
          ><template #suffix>s</template></NInputNumber
        ></label
      >
      <label
        >nodes<NInputNumber
          v-model:value="form.nodes"
          size="small"
          :min="1"
          :max="100"
          :precision="0"
          :show-button="false"
      /></label>
      <label v-if="(form.nodes ?? 1) > 1"
        >that<NSelect v-model:value="form.sync" size="small" :options="kinds" aria-label="How nodes count"
      /></label>
      <label title="All counts are forgotten then; 0 is never"
        >restart after<NInputNumber v-model:value="form.restart" size="small" :min="0" :show-button="false"
          ><template #suffix>s</template></NInputNumber
        ></label
      >
      <label v-if="quota.model === 'concurrency'"
        >a call takes<NInputNumber v-model:value="form.hold" size="small" :min="0" :show-button="false"
          ><template #suffix>s</template></NInputNumber
        ></label
      >
    </div>
    <NInput
      v-if="form.pattern === 'log'"
      v-model:value="form.recorded"
      type="textarea"
      class="mono"
      :rows="4"
      size="small"
      placeholder="An instant on each line: seconds, 2026-11-25T10:00:00Z, or a line of an access log"
    />
    <p v-if="error" class="bad" role="alert">{{ error }}</p>
    <template v-else-if="result">
      <p role="status">{{ says }}</p>
      <CallsChart v-if="!table && result.bins.length" :data="result" :label="says" />
      <div v-else-if="table" class="scroll">
        <table>
          <thead>
            <tr>
              <th scope="col">From</th>
              <th scope="col">Came</th>
              <th scope="col">Admitted</th>
              <th scope="col">Waited</th>
              <th scope="col">Refused</th>
              <th scope="col">Begun</th>
              <th scope="col">Ceiling so far</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="b in result.bins" :key="b.from">
              <th scope="row">{{ time(b.from) }}</th>
              <td>{{ b.came }}</td>
              <td>{{ b.admitted }}</td>
              <td>{{ b.queued }}</td>
              <td>{{ b.refused }}</td>
              <td>{{ b.began }}</td>
              <td>{{ b.ceiling < 0 ? 'no limit' : b.ceiling }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <button class="bare link" :aria-pressed="table" @click="table = !table">
        {{ table ? 'Show it as a chart' : 'Show it as a table' }}
      </button>
    </template>
  </section>
</template>

<style scoped>
.sim {
  margin-top: 14px;
  padding: 12px 16px 14px;
}
h2 {
  margin: 0 0 8px;
}
.form {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 12px;
  margin-bottom: 8px;
}
label {
  font-size: 12px;
  color: var(--faint);
  width: 108px;
}
label:first-child,
label:has(.n-select) {
  width: 200px;
}
p {
  margin: 6px 0;
}
.bad {
  color: var(--U);
}
.scroll {
  max-height: 330px;
  overflow: auto;
}
table {
  border-collapse: collapse;
}
th,
td {
  text-align: right;
  font-weight: 400;
  padding: 1px 14px 1px 0;
  font-variant-numeric: tabular-nums;
}
thead th {
  color: var(--faint);
  position: sticky;
  top: 0;
  background: var(--sheet);
}
.link {
  color: var(--mill);
  text-decoration: underline;
  text-underline-offset: 3px;
}
</style>
