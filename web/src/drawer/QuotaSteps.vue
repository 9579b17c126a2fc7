<script setup lang="ts">
import { computed, defineAsyncComponent, ref } from 'vue'
import { NButton, useMessage } from 'naive-ui'
import { api, ask, message, type QuotaView, type Restarted } from '../api/client'
import { exact, span } from '../parts/time'
import { useWorkspace } from '../stores/workspace'
import { storeToRefs } from 'pinia'

const { target } = storeToRefs(useWorkspace())

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

const names = { proven: 'proven', likely: 'likely', possible: 'one of', said: 'as it says', open: 'open' }
const sureness = {
  proven: 'counted: it holds whatever limiter is there',
  likely: 'nothing else that is known explains what was seen',
  possible: 'one of several that explain what was seen',
  said: 'the service says so; it was not put to the test',
  open: 'not found out',
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
      Declared: <span class="mono">{{ view.declared }}</span><template v-if="view.lowered"
        >; on this target it is <span class="mono">{{ view.lowered }}</span></template
      ><template v-if="view.ceiling > 0 && view.window > 0"
        >, at most {{ view.ceiling }} in any {{ span(view.window) }}</template
      >
    </p>
    <p v-if="view.lowered" class="faint">
      How it counts and refuses is shown by that; that the declared number holds is not.
    </p>
    <p v-if="!view.calls.length" class="faint">No call was made yet.</p>
    <p v-else-if="view.kept" class="faint">
      An earlier sweep measured this, {{ exact(view.kept) }}. The last one could not: its verdict says why, and nothing
      is proven today.
    </p>
    <div v-if="view.conclusions.length" class="list">
      <component
        :is="c.because.length ? 'details' : 'div'"
        v-for="c in view.conclusions"
        :key="c.about"
        class="line"
        :class="{ wrong: c.wrong }"
      >
        <component :is="c.because.length ? 'summary' : 'div'" class="head">
          <span class="about">{{ c.about }}</span>
          <span class="text">{{ c.text }}</span>
          <span class="sure" :class="c.sure" :title="sureness[c.sure]">{{ names[c.sure] }}</span>
        </component>
        <ul v-if="c.because.length" class="faint">
          <li v-for="(b, i) in c.because" :key="i">{{ b }}</li>
        </ul>
      </component>
    </div>
    <p v-if="view.calls.length" class="faint">“Probe again” measures it alone, and for longer.</p>
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
            <th scope="col">{{ view.window ? 'In the window' : 'Running' }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(c, i) in view.calls" :key="i">
            <td>{{ c.at.toFixed(3) }} s</td>
            <td>{{ c.ok ? (c.waited ? 'waited' : 'admitted') : 'refused' }}{{ c.batch ? ', together' : '' }}</td>
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
  <section v-if="view.restarts">
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
.list {
  margin: 6px 0;
  border-top: 1px solid var(--hair);
}
.line {
  border-bottom: 1px solid var(--hair);
  padding: 3px 0;
}
.head {
  display: grid;
  grid-template-columns: 104px 1fr auto;
  gap: 8px;
  align-items: baseline;
}
summary.head {
  cursor: pointer;
  list-style: none;
}
summary.head::-webkit-details-marker {
  display: none;
}
summary .about::before {
  content: '+';
  display: inline-block;
  width: 12px;
  color: var(--mill);
}
details[open] > summary .about::before {
  content: '−';
}
div.head .about {
  padding-left: 12px;
}
.about {
  color: var(--faint);
  overflow-wrap: anywhere;
}
.sure {
  font-size: 12px;
  color: var(--faint);
  white-space: nowrap;
}
.sure.proven,
.sure.likely {
  color: var(--ink);
}
.sure.proven {
  font-weight: 600;
}
.wrong .text {
  color: var(--W);
  font-weight: 600;
}
.line ul {
  margin: 2px 0 4px;
  padding-left: 112px;
  list-style: none;
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
