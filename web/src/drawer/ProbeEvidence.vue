<script setup lang="ts">
import type { Probe } from '../api/client'
import { parts } from '../parts/drill'
import { ago, exact, useNow } from '../parts/time'
import AnswerContract from './AnswerContract.vue'
import DeclareRefusal from './DeclareRefusal.vue'
import ExchangeView from './ExchangeView.vue'

// What was sent for a probe and what came of it, with the control that shows it to be a fair one.
defineProps<{ probe: Probe; route: string }>()
const now = useNow()
</script>

<template>
  <section v-if="probe.steps?.length">
    <h2>Steps</h2>
    <details v-for="(s, i) in probe.steps" :key="i" class="step" :open="parts(s)">
      <summary>
        <span class="mono faint">{{ s.at.toFixed(2) }} s</span> {{ s.name }}
        <span class="mono" :class="{ bad: parts(s) }">{{ s.status || 'no answer' }}</span>
        <span class="faint">{{ s.expected ? `declared: ${s.expected}` : '' }}</span>
      </summary>
      <ExchangeView v-if="s.exchange" :exchange="s.exchange" />
    </details>
  </section>
  <section v-if="probe.page?.preflight">
    <h2>Preflight</h2>
    <ExchangeView :exchange="probe.page.preflight" />
  </section>
  <section v-if="probe.exchange">
    <h2 :title="exact(probe.exchange.at)">
      {{ probe.quota ? (probe.quota.status ? 'The first refusal' : 'The first call') : 'Exchange' }},
      {{ Math.max(1, Math.round(probe.exchange.ms)) }} ms, {{ ago(probe.exchange.at, now) }}
    </h2>
    <ExchangeView :exchange="probe.exchange" />
    <DeclareRefusal v-if="probe.declares" :route="route" :words="probe.declares" />
    <AnswerContract v-if="probe.exchange.status >= 400" :exchange="probe.exchange" />
  </section>
  <section v-if="probe.page?.refusal">
    <h2>The same without its credential</h2>
    <ExchangeView :exchange="probe.page.refusal" />
  </section>
  <section v-if="probe.control || probe.isControl || probe.readBack">
    <h2>Control</h2>
    <p v-if="probe.isControl">This is the control of the route: a caller that must be admitted.</p>
    <p v-else-if="probe.control">
      {{ probe.control.caller }}, {{ probe.control.sameBody ? 'same request' : 'the same route' }}:
      <b :class="probe.control.status < 300 ? 'good' : 'bad'">{{ probe.control.status || 'no answer' }}</b>.
      {{
        probe.control.status >= 200 && probe.control.status < 300
          ? 'The request was a fair one.'
          : 'So a refusal proves nothing yet.'
      }}
    </p>
    <p v-if="probe.readBack">
      The record, read again by its owner: <b>{{ probe.readBack }}</b>.
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
.step summary > span {
  margin-right: 6px;
}
.step summary {
  cursor: pointer;
  padding: 2px 0;
}
.good {
  color: var(--ok);
}
.bad {
  color: var(--U);
}
</style>
