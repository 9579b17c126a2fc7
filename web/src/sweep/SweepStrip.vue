<script setup lang="ts">
import { ChevronDown, ChevronUp } from '@lucide/vue'
import { NButton, NSelect, useMessage } from 'naive-ui'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, message, type Tick } from '../api/client'
import { ago, exact, span, useNow } from '../parts/time'
import { board, chooseTarget, failure, last, running, target, ticks, waiting } from '../state/workspace'
import { isGap, kindName, kinds } from '../theme/kinds'
import PlanDialog from './PlanDialog.vue'

const toast = useMessage()
const router = useRouter()
const now = useNow()
const up = ref(false)
const planning = ref(false)
const busy = ref(false)

const options = computed(() => (board.value?.targets ?? []).map((t) => ({ label: t, value: t })))
const gaps = computed(() => ticks.value.filter((t) => isGap(t.kind)))
const total = computed(() => running.value?.planned ?? Math.max(1, ticks.value.length))
const counts = computed(() => {
  const c = last.value?.counts
  if (!c) return ''
  const parts = kinds.flatMap((k) => (c.findings[k.letter] ? [`${c.findings[k.letter]} ${k.name}`] : []))
  return parts.length ? parts.join(', ') : 'no findings'
})
const state: Record<string, string> = { stopped: 'was stopped', interrupted: 'was interrupted', failed: 'failed' }

async function begin() {
  planning.value = false
  busy.value = true
  try {
    ticks.value = []
    await ask(api.POST('/api/sweeps', { body: { target: target.value } }))
  } catch (e) {
    toast.error(message(e))
  } finally {
    busy.value = false
  }
}
async function stop() {
  if (!running.value) return
  busy.value = true
  try {
    await ask(api.POST('/api/sweeps/{id}/stop', { params: { path: { id: running.value.id } } }))
  } catch (e) {
    toast.error(message(e))
  } finally {
    busy.value = false
  }
}
async function resume() {
  if (!last.value) return
  try {
    await ask(api.POST('/api/sweeps/{id}/resume', { params: { path: { id: last.value.id } } }))
  } catch (e) {
    toast.error(message(e))
  }
}
function show(t: Tick) {
  void router.push({ name: 'board', query: { route: t.route, caller: t.caller || undefined } })
}

// The line is drawn; what is under the pointer is found by its place.
const line = ref<HTMLElement | null>(null)
const under = ref<{ t: Tick; x: number } | null>(null)
function point(e: MouseEvent) {
  const box = line.value?.getBoundingClientRect()
  if (!box) return
  const step = box.width / total.value
  const i = Math.floor((e.clientX - box.left) / step)
  // A gap close by is meant rather than the agreeing tick beside it.
  const near = [0, 1, -1, 2, -2, 3, -3].map((d) => ticks.value[i + d]).find((t) => t && isGap(t.kind)) ?? ticks.value[i]
  under.value = near ? { t: near, x: e.clientX - box.left } : null
}
const bars = computed(() => {
  const w = 1000 / total.value
  return ticks.value.map((t, i) => ({ x: i * w, w: Math.max(isGap(t.kind) ? 2.2 : 0.6, w * 0.6), k: t.kind }))
})
const quiet = computed(() =>
  bars.value
    .filter((b) => !isGap(b.k))
    .map((b) => `M${b.x.toFixed(1)} 0v20h${b.w.toFixed(1)}v-20z`)
    .join(''),
)
const loud = computed(() => bars.value.filter((b) => isGap(b.k)))
const color = (k: string) => `var(--${'SK'.includes(k) ? 'X' : k === 'R' ? 'W' : k})`
</script>

<template>
  <footer class="strip" aria-label="Sweep">
    <div v-if="up" class="list" tabindex="0">
      <p v-if="!gaps.length" class="faint">
        {{
          ticks.length
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
        @update:value="chooseTarget"
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
      <div ref="line" class="line" @mousemove="point" @mouseleave="under = null" @click="under && show(under.t)">
        <svg v-if="ticks.length" viewBox="0 0 1000 20" preserveAspectRatio="none" aria-hidden="true">
          <path :d="quiet" class="agree" />
          <rect v-for="(b, i) in loud" :key="i" :x="b.x" y="0" :width="b.w" height="20" :fill="color(b.k)" />
        </svg>
        <span v-if="under" class="tip" :style="{ left: `${under.x}px` }"
          ><span class="kind" :class="isGap(under.t.kind) && `k-${under.t.kind}`">{{
            isGap(under.t.kind) ? under.t.kind : '·'
          }}</span>
          {{ isGap(under.t.kind) ? kindName(under.t.kind) : under.t.kind }}: {{ under.t.who }} at
          {{ under.t.route }}</span
        >
      </div>
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
.line {
  position: relative;
  flex: 1;
  min-width: 60px;
  height: 16px;
  background: var(--ground);
  border-radius: 4px;
  cursor: pointer;
}
.line svg {
  width: 100%;
  height: 100%;
  display: block;
}
.agree {
  fill: var(--mark);
  opacity: 0.55;
}
.tip {
  position: absolute;
  bottom: 22px;
  transform: translateX(-70%);
  padding: 3px 8px;
  background: var(--sheet);
  border: 1px solid var(--line);
  border-radius: 4px;
  box-shadow: var(--shadow);
  pointer-events: none;
  z-index: 10;
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
