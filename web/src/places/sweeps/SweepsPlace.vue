<script setup lang="ts">
import { NButton, useMessage } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, message, type Sweep, type SweepResult, type SweepState } from '../../api/client'
import { ago, exact, span, useNow } from '../../parts/time'
import { kinds } from '../../theme/kinds'
import SweepDetail from './SweepDetail.vue'
import { usePages } from '../../composables/usePages'
import { useWorkspace } from '../../stores/workspace'
import { useSweep } from '../../stores/sweep'
import { storeToRefs } from 'pinia'

const { version } = storeToRefs(useWorkspace())
const { running } = storeToRefs(useSweep())

const url = useRoute()
const router = useRouter()
const toast = useMessage()
const now = useNow()
const {
  list,
  next,
  error: unread,
  reload,
  more,
} = usePages<Sweep>((after) => ask(api.GET('/api/sweeps', { params: { query: { after, limit: 100 } } })))
const detail = ref<SweepResult | null>(null)
const error = ref('')
const chosen = computed(
  () => Number(url.query.sweep ?? 0) || list.value.find((s) => !s.partial)?.id || list.value[0]?.id || 0,
)

/** Whole sweeps that the chosen one can be compared with. */
const earlier = computed(() => {
  const of = detail.value?.sweep
  return list.value.filter(
    (s) => of && !of.partial && s.id < of.id && s.target === of.target && !s.partial && s.endedAt && s.counts,
  )
})
watch([version, running], reload, { immediate: true })
watch(
  [chosen, version],
  async () => {
    if (!chosen.value) return
    try {
      detail.value = await ask(api.GET('/api/sweeps/{id}', { params: { path: { id: chosen.value } } }))
    } catch (e) {
      error.value = message(e)
    }
  },
  { immediate: true },
)
const states: Record<SweepState, string> = {
  running: 'running',
  done: 'done',
  stopped: 'stopped',
  interrupted: 'interrupted',
  failed: 'could not check the target',
}
function took(s: Sweep) {
  return s.endedAt ? span((new Date(s.endedAt).getTime() - new Date(s.startedAt).getTime()) / 1000) : ''
}
async function resume(id: number) {
  try {
    await ask(api.POST('/api/sweeps/{id}/resume', { params: { path: { id } } }))
  } catch (e) {
    toast.error(message(e))
  }
}
</script>

<template>
  <div class="place">
    <h1>Sweeps</h1>
    <p v-if="error || unread" class="bad">{{ error || unread }}</p>
    <p v-if="!list.length" class="faint">None yet. Start one from the strip below.</p>
    <div v-else class="two">
      <div class="sheet">
        <table class="plain">
          <thead>
            <tr>
              <th>Sweep</th>
              <th>Target</th>
              <th>Began</th>
              <th>Took</th>
              <th>Probes</th>
              <th>Findings</th>
              <th></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="s in list" :key="s.id" :class="{ on: s.id === chosen }">
              <td>
                <button class="bare link" @click="router.replace({ query: { sweep: s.id } })">{{ s.id }}</button>
                <span class="faint of">{{ s.shard ? `shard ${s.shard}` : s.partial ? 'again' : '' }}</span>
              </td>
              <td>{{ s.target }}</td>
              <td :title="exact(s.startedAt)">{{ ago(s.startedAt, now) }}</td>
              <td>{{ took(s) || states[s.state] }}</td>
              <td>{{ s.done }}</td>
              <td>
                <template v-if="s.counts"
                  ><span v-for="k in kinds.filter((k) => s.counts!.findings[k.kind])" :key="k.kind" class="n"
                    ><span class="kind" :class="`k-${k.kind}`" :title="k.name">{{ k.kind }}</span>
                    {{ s.counts.findings[k.kind] }}</span
                  ></template
                >
                <span v-if="s.state !== 'done'" class="faint"
                  >{{ states[s.state] }}{{ s.note ? `: ${s.note}` : '' }}</span
                >
              </td>
              <td>
                <NButton
                  v-if="(s.state === 'stopped' || s.state === 'interrupted') && !s.partial && !s.pruned"
                  size="small"
                  :disabled="!!running"
                  @click="resume(s.id)"
                  >Go on</NButton
                >
                <span
                  v-if="s.pruned"
                  class="faint"
                  title="Its findings stay; what was sent and answered was taken away."
                  >exchanges pruned</span
                >
              </td>
            </tr>
          </tbody>
        </table>
        <p v-if="next" class="further"><button class="bare link" @click="more">Earlier sweeps</button></p>
      </div>
      <SweepDetail v-if="detail" :result="detail" :earlier="earlier" />
    </div>
  </div>
</template>

<style scoped>
td:not(:nth-child(6)) {
  white-space: nowrap;
}
.of {
  margin-left: 6px;
}
.further {
  padding: 8px 12px;
  margin: 0;
}
.two {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 16px;
  align-items: start;
}
.on td {
  background: var(--mill-soft);
}
.n {
  margin-right: 8px;
  white-space: nowrap;
}
.n .kind {
  width: 16px;
  height: 16px;
  font-size: 10px;
}
.link {
  color: var(--mill);
  font-weight: 600;
}
.bad {
  color: var(--U);
}
</style>
