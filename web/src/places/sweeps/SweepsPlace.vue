<script setup lang="ts">
import { NButton, useMessage } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, message, type Sweep, type SweepResult } from '../../api/client'
import { ago, exact, span, useNow } from '../../parts/time'
import { running, version } from '../../state/workspace'
import { kinds } from '../../theme/kinds'

const url = useRoute()
const router = useRouter()
const toast = useMessage()
const now = useNow()
const list = ref<Sweep[]>([])
const detail = ref<SweepResult | null>(null)
const error = ref('')
const chosen = computed(
  () => Number(url.query.sweep ?? 0) || list.value.find((s) => !s.partial)?.id || list.value[0]?.id || 0,
)

watch(
  [version, running],
  async () => {
    try {
      list.value = await ask(api.GET('/api/sweeps'))
      error.value = ''
    } catch (e) {
      error.value = message(e)
    }
  },
  { immediate: true },
)
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
const states: Record<string, string> = {
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
    <p v-if="error" class="bad">{{ error }}</p>
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
                <span class="faint">{{ s.partial ? 'again' : '' }}</span>
              </td>
              <td>{{ s.target }}</td>
              <td :title="exact(s.startedAt)">{{ ago(s.startedAt, now) }}</td>
              <td>{{ took(s) || states[s.state] }}</td>
              <td>{{ s.done }}</td>
              <td>
                <template v-if="s.counts"
                  ><span v-for="k in kinds.filter((k) => s.counts!.findings[k.letter])" :key="k.letter" class="n"
                    ><span class="kind" :class="`k-${k.letter}`" :title="k.name">{{ k.letter }}</span>
                    {{ s.counts.findings[k.letter] }}</span
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
      </div>
      <div v-if="detail" class="sheet info">
        <h1>Sweep {{ detail.sweep.id }}</h1>
        <p class="faint">against {{ detail.sweep.target }}, with revision {{ detail.sweep.revision }}</p>
        <template v-if="detail.unsent.length">
          <h2>Not sent</h2>
          <ul>
            <li v-for="u in detail.unsent" :key="u.why">{{ u.probes }} probes: {{ u.why }}</li>
          </ul>
        </template>
        <h2>Left behind</h2>
        <p v-if="!detail.made.length">Nothing: whatever the sweep made was removed.</p>
        <ul v-else>
          <li v-for="(m, i) in detail.made" :key="i">
            <b>{{ m.what || 'something' }}</b> by <span class="mono">{{ m.route }}</span>: {{ m.why }}
          </li>
        </ul>
        <h2>Left out</h2>
        <p v-if="!detail.left.length">Nothing.</p>
        <ul v-else>
          <li v-for="(l, i) in detail.left" :key="i">
            <span class="mono">{{ l.route }}</span>{{ l.caller ? `, ${l.caller}` : '' }}, {{ l.what }}: {{ l.why }}
          </li>
        </ul>
      </div>
    </div>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(260px, 2fr);
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
.info {
  padding: 14px 16px;
}
.info ul {
  margin: 0 0 12px;
  padding-left: 16px;
}
.bad {
  color: var(--U);
}
</style>
