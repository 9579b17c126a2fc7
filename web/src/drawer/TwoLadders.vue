<script setup lang="ts">
import { computed } from 'vue'
import type { Crossing } from '../api/client'
import LadderList from './LadderList.vue'

// The ladders of what was worst in each of two crossings, side by side.
const props = defineProps<{ x: Crossing; other: Crossing }>()
function worst(c: Crossing) {
  const p = c.probes[0]
  return p?.ladder.length ? { ladder: p.ladder, decider: p.decider } : { ladder: c.ladder, decider: c.decider }
}
const differs = computed(() => {
  const b = worst(props.other).ladder
  return worst(props.x).ladder.find((r, i) => r.result !== b[i]?.result || r.text !== b[i]?.text)?.number ?? 0
})
</script>

<template>
  <section>
    <h2>Ladders side by side</h2>
    <div class="pair">
      <div v-for="c in [x, other]" :key="c.route + c.caller">
        <div class="mono faint">{{ c.caller || 'nobody' }} · {{ c.route }}</div>
        <LadderList
          :ladder="worst(c).ladder"
          :decider="worst(c).decider"
          :file="c.file"
          :line="c.line"
          :mark="differs"
        />
      </div>
    </div>
    <p class="faint">{{ differs ? `They first differ at rung ${differs}.` : 'They do not differ.' }}</p>
  </section>
</template>

<style scoped>
section {
  margin-bottom: 16px;
}
p {
  margin: 0 0 4px;
}
.pair {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 28px;
  overflow-wrap: anywhere;
}
.pair :deep(li) {
  grid-template-columns: 16px minmax(0, 1fr);
}
.pair :deep(.text) {
  grid-column: 2;
}
</style>
