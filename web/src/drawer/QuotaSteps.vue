<script setup lang="ts">
import { computed, defineAsyncComponent, ref } from 'vue'
import type { QuotaView } from '../api/client'
import { exact, span } from '../parts/time'

const DrillChart = defineAsyncComponent(() => import('../parts/DrillChart.vue'))
const props = defineProps<{ view: QuotaView }>()
const table = ref(false)

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
