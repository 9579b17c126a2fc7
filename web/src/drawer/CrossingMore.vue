<script setup lang="ts">
import type { Crossing } from '../api/client'
import { ago, exact, useNow } from '../parts/time'

// What to do about a crossing, what of it was left out, and what it was in earlier sweeps.
defineProps<{ x: Crossing; probe: string | undefined }>()
const now = useNow()
</script>

<template>
  <section v-if="x.finding">
    <h2>What to do</h2>
    <p>{{ x.finding.advice }}</p>
    <p v-if="x.finding.refuted" class="faint"><b>What would refute it:</b> {{ x.finding.refuted }}</p>
    <p class="faint">
      {{ x.finding.owasp }} · CWE-{{ x.finding.cwe
      }}<template v-if="x.finding.standard"> · {{ x.finding.standard }}</template> · {{ x.finding.id }}
    </p>
  </section>
  <section v-if="x.left.length">
    <h2>Left out</h2>
    <p v-for="l in x.left" :key="l.what + l.why">{{ l.what }}: {{ l.why }}</p>
  </section>
  <section v-if="x.history.length > 1">
    <h2>Over sweeps</h2>
    <ul class="history">
      <li v-for="h in x.history.filter((h) => h.probe === probe)" :key="h.sweep" :title="exact(h.at)">
        sweep {{ h.sweep }}, {{ ago(h.at, now) }}: <span class="mono">{{ h.status || 'no answer' }}</span>
      </li>
    </ul>
  </section>
</template>

<style scoped>
section {
  margin-bottom: 16px;
}
p {
  margin: 0 0 4px;
}
.history {
  margin: 0;
  padding: 0;
  list-style: none;
}
</style>
