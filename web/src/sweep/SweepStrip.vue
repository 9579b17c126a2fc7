<script setup lang="ts">
import { ChevronDown, ChevronUp } from '@lucide/vue'
import { NButton, NSelect } from 'naive-ui'
import { storeToRefs } from 'pinia'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, type SweepState, type Tick } from '../api/client'
import { useAsk } from '../composables/useAsk'
import { ago, exact, span, useNow } from '../parts/time'
import { useSweep } from '../stores/sweep'
import { useWorkspace } from '../stores/workspace'
import { kinds } from '../theme/kinds'
import SweepLine from './SweepLine.vue'

const PlanDialog = defineAsyncComponent(() => import('./PlanDialog.vue'))

const { board, target } = storeToRefs(useWorkspace())
const { choose } = useWorkspace()
const sweep = useSweep()
const { failure, last, running, line, waiting } = storeToRefs(sweep)
const router = useRouter()
const now = useNow()
const up = ref(false)
const planning = ref(false)
const { busy, run } = useAsk()

const options = computed(() => (board.value?.targets ?? []).map((t) => ({ label: t, value: t })))
const gaps = computed(() => line.value.gaps.map((g) => g.tick))
const counts = computed(() => {
  const c = last.value?.counts
  if (!c) return ''
  const parts = kinds.flatMap((k) => (c.findings[k.kind] ? [`${c.findings[k.kind]} ${k.name}`] : []))
  return parts.length ? parts.join(', ') : 'no findings'
})
const state: Partial<Record<SweepState, string>> = {
  stopped: 'was stopped',
  interrupted: 'was interrupted',
  failed: 'failed',
}

async function begin() {
  planning.value = false
  await run(async () => {
    sweep.clear()
    await ask(api.POST('/api/sweeps', { body: { target: target.value } }))
  })
}
async function stop() {
  const id = running.value?.id
  if (id) await run(() => ask(api.POST('/api/sweeps/{id}/stop', { params: { path: { id } } })))
}
async function resume() {
  const id = last.value?.id
  if (id) await run(() => ask(api.POST('/api/sweeps/{id}/resume', { params: { path: { id } } })))
}
function show(t: Tick) {
  void router.push({ name: 'board', query: { route: t.route, caller: t.caller || undefined } })
}
</script>

<template>
  <footer class="strip" aria-label="Sweep">
    <div v-if="up" class="list" tabindex="0">
      <p v-if="!gaps.length" class="faint">
        {{
          line.total
            ? 'Every verdict of this sweep agrees so far.'
            : 'Verdicts that part from the declaration are listed here as they land.'
        }}
      </p>
      <button v-for="(t, i) in gaps" :key="i" class="bare tick" @click="show(t)">
        <span class="kind" :class="`k-${t.kind}`">{{ t.kind }}</span>
        <span class="mono">{{ t.route }}</span>
        <span>{{ t.who }}</span>
        <span class="faint reason">{{ t.reason }}</span>
      </button>
    </div>
    <div class="bar">
      <span class="against">against</span>
      <NSelect
        size="small"
        class="target"
        :value="target"
        :options="options"
        :disabled="!!running"
        aria-label="Target"
        @update:value="choose"
      />
      <template v-if="running">
        <b>{{ running.partial ? 'Again' : `Sweep ${running.id}` }}</b>
        <span class="faint" role="status">{{
          waiting && running.done < running.planned && running.pace < 1
            ? waiting
            : `${running.done} of ${running.planned} probes, ${Math.round(running.pace)} per s, ${span(running.left)} left`
        }}</span>
      </template>
      <template v-else>
        <NButton
          size="small"
          type="primary"
          :disabled="!target || !!board?.errors"
          :loading="busy"
          @click="planning = true"
          >Start sweep</NButton
        >
        <span v-if="failure" class="failed" role="alert">The target could not be checked: {{ failure }}</span>
        <span v-else-if="last" class="faint" role="status" :title="exact(last.endedAt)">
          Sweep {{ last.id }}{{ state[last.state] ? ` ${state[last.state]}` : '' }},
          {{ ago(last.endedAt ?? last.startedAt, now) }}<template v-if="last.note">: {{ last.note }}</template
          ><template v-if="counts">: {{ counts }}</template>
        </span>
        <span v-else class="faint">{{ target ? 'not swept yet' : 'no target is declared' }}</span>
        <NButton v-if="last && (last.state === 'stopped' || last.state === 'interrupted')" size="small" @click="resume"
          >Go on</NButton
        >
      </template>
      <SweepLine @show="show" />
      <button class="bare pull" :aria-expanded="up" aria-label="List of verdicts" @click="up = !up">
        <ChevronUp v-if="!up" :size="16" /><ChevronDown v-else :size="16" />
      </button>
      <NButton v-if="running" size="small" :loading="busy" @click="stop">Stop</NButton>
    </div>
    <PlanDialog v-model:show="planning" :target="target" @start="begin" />
  </footer>
</template>

<style scoped>
.strip {
  background: var(--sheet);
  border-top: 1px solid var(--line);
}
.bar {
  display: flex;
  align-items: center;
  gap: 10px;
  height: 38px;
  padding: 0 14px;
  white-space: nowrap;
}
.against {
  color: var(--faint);
}
.target {
  width: 130px;
  flex: none;
}
.failed {
  color: var(--U);
  overflow: hidden;
  text-overflow: ellipsis;
}
.pull {
  color: var(--faint);
  height: 20px;
}
.list {
  max-height: 220px;
  overflow: auto;
  padding: 8px 14px;
  border-bottom: 1px solid var(--hair);
}
.tick {
  display: grid;
  grid-template-columns: 24px 300px 200px 1fr;
  gap: 8px;
  width: 100%;
  padding: 2px 0;
  align-items: center;
}
.tick:hover {
  background: var(--mill-soft);
}
.reason {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.bar .faint {
  overflow: hidden;
  text-overflow: ellipsis;
}
</style>
