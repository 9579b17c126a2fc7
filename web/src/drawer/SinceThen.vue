<script setup lang="ts">
import { computed } from 'vue'
import type { ChangedCrossing, Crossing, Kind } from '../api/client'
import { kindName } from '../theme/kinds'

// What each probe of a crossing was in an earlier sweep, beside what it is now.
const props = defineProps<{ x: Crossing; since: number; turned: ChangedCrossing[]; untold: string }>()
const probes = computed(
  () => props.turned.find((c) => c.route === props.x.route && c.column === props.x.caller)?.probes ?? [],
)
const label = (id: string) => props.x.probes.find((p) => p.id === id)?.label ?? id
const now = (id: string) => props.x.probes.find((p) => p.id === id)?.exchange?.status
const then = (id: string) => props.x.history.find((h) => h.probe === id && h.sweep <= props.since)?.status
const says = (kind: string, status?: number) =>
  `${kind ? kindName(kind as Kind) : 'not planned'}${status ? `, answered ${status}` : ''}`
</script>

<template>
  <section>
    <h2>Since sweep {{ since }}</h2>
    <p v-if="untold">{{ untold }}</p>
    <p v-else-if="!probes.length">Its verdicts are what they were.</p>
    <dl v-else>
      <template v-for="t in probes" :key="t.probe">
        <dt>{{ label(t.probe) }}</dt>
        <dd>
          <span class="faint">{{ says(t.was, then(t.probe)) }}</span> → <b>{{ says(t.is, now(t.probe)) }}</b>
        </dd>
      </template>
    </dl>
  </section>
</template>

<style scoped>
section {
  margin-bottom: 16px;
}
p,
dd {
  margin: 0;
}
dl {
  display: grid;
  grid-template-columns: minmax(80px, auto) minmax(0, 1fr);
  gap: 2px 12px;
  margin: 0;
}
dt {
  color: var(--faint);
}
</style>
