<script setup lang="ts">
import { computed, defineAsyncComponent, ref } from 'vue'
import { NButton, useMessage } from 'naive-ui'
import { api, ask, message, type QuotaView, type Restarted } from '../api/client'
import { exact, span } from '../parts/time'
import { target } from '../state/workspace'

const DrillChart = defineAsyncComponent(() => import('../parts/DrillChart.vue'))
const props = defineProps<{ view: QuotaView }>()
const table = ref(false)
const toast = useMessage()
const restart = ref<Restarted | null>(null)
const busy = ref(false)

/** Fills the quota; then, when the service was started again, asks once more. */
async function check(step: 'fill' | 'compare') {
  busy.value = true
  try {
    restart.value = await ask(
      api.POST('/api/quotas/restart', { body: { target: target.value, quota: props.view.name, step } }),
    )
  } catch (e) {
    toast.error(message(e))
  } finally {
    busy.value = false
  }
}

const admitted = computed(() => props.view.calls.filter((c) => c.ok).length)
const label = computed(() => {
  const v = props.view
  return `${v.calls.length} calls in ${v.seconds.toFixed(1)} s, ${admitted.value} admitted and ${v.calls.length - admitted.value} refused. ${v.name} allows ${v.declared}. ${v.found}`
})
</script>

<template>
  <section>
    <h2>What was found out</h2>
    <p>
      Declared: <span class="mono">{{ view.declared }}</span><template v-if="view.ceiling > 0 && view.window > 0"
        >, at most {{ view.ceiling }} in any {{ span(view.window) }}</template
      >
    </p>
    <template v-if="view.calls.length">
      <p>
        <b>{{ view.found }}</b>
      </p>
      <p v-if="view.kept" class="faint" :title="exact(view.kept)">
        Measured earlier: the quota was still full when this sweep began.
      </p>
      <p class="faint">
        {{ view.calls.length }} calls in {{ view.seconds.toFixed(1) }} s, {{ admitted }} admitted. “Probe again”
        measures it alone, and for longer.
      </p>
    </template>
    <p v-else class="faint">No call was made yet.</p>
  </section>
  <section v-if="view.calls.length">
    <h2>The calls</h2>
    <DrillChart v-if="!table" :view="view" :label="label" />
    <div v-else class="scroll" tabindex="0">
      <table>
        <thead>
          <tr>
            <th scope="col">At</th>
            <th scope="col">Answer</th>
            <th scope="col">Took</th>
            <th scope="col">In the window</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(c, i) in view.calls" :key="i">
            <td>{{ c.at.toFixed(3) }} s</td>
            <td>{{ c.ok ? 'admitted' : 'refused' }}</td>
            <td>{{ Math.round(c.took * 1000) }} ms</td>
            <td>{{ c.begun }}</td>
          </tr>
        </tbody>
      </table>
    </div>
    <button class="bare link" :aria-pressed="table" @click="table = !table">
      {{ table ? 'Show them as a chart' : 'Show them as a table' }}
    </button>
  </section>
  <section v-if="view.status">
    <h2>How it refuses</h2>
    <p>
      With {{ view.status
      }}{{
        view.said >= 0 ? `, and asks to come again in ${span(view.said)}` : ', and does not say when to come again'
      }}.
    </p>
    <p v-for="f in view.fields" :key="f" class="mono faint">{{ f }}</p>
  </section>
  <section v-if="view.around.length">
    <h2>Around the limit</h2>
    <p v-for="a in view.around" :key="a.way" :class="{ passed: a.passed }">
      with {{ a.way }}: {{ a.status || 'no answer' }}, {{ a.passed ? 'gets through' : 'does not get through' }}
    </p>
  </section>
  <section>
    <h2>After a restart</h2>
    <p v-if="!restart" class="faint">
      Does the count outlive a restart of the service? Calls are made until one is refused; then you restart it.
    </p>
    <p v-else-if="!restart.done">
      Full after {{ restart.calls }} calls. Start the service again now, within {{ span(restart.left) }}, then compare.
    </p>
    <p v-else-if="restart.late">
      The window had ended by itself, so nothing can be said. Fill it again and be quicker.
    </p>
    <p v-else-if="restart.forgets" class="passed">
      The restart set the count to zero: a call was admitted that should have been refused.
    </p>
    <p v-else>The count outlived the restart: the call was refused.</p>
    <NButton size="small" :loading="busy" @click="check(restart && !restart.done ? 'compare' : 'fill')">{{
      restart && !restart.done ? 'Compare' : 'Fill it…'
    }}</NButton>
  </section>
</template>

<style scoped>
section {
  margin-bottom: 16px;
}
p {
  margin: 0 0 4px;
}
.passed {
  font-weight: 600;
  color: var(--T);
}
.scroll {
  max-height: 230px;
  overflow: auto;
}
th,
td {
  text-align: left;
  font-weight: 400;
  padding: 0 16px 0 0;
  font-variant-numeric: tabular-nums;
}
th {
  color: var(--faint);
}
.link {
  color: var(--mill);
  text-decoration: underline;
  text-underline-offset: 3px;
}
</style>
