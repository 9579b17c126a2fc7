<script setup lang="ts">
import type { Probe } from '../api/client'
import { isGap } from '../theme/kinds'

// The probes of a crossing, the worst first; one of them is looked at.
defineProps<{ probes: Probe[]; picked: string | undefined }>()
const emit = defineEmits<{ pick: [id: string] }>()
const signs: Partial<Record<Probe['kind'], string>> = { agrees: '·', unproven: '?' }
</script>

<template>
  <section>
    <h2>Probes of this crossing</h2>
    <ul class="probes">
      <li v-for="p in probes" :key="p.id">
        <button
          class="bare"
          :class="{ on: p.id === picked }"
          :aria-pressed="p.id === picked"
          @click="emit('pick', p.id)"
        >
          <span v-if="isGap(p.kind)" class="kind small" :class="`k-${p.kind}`">{{ p.kind }}</span>
          <span v-else class="none mono" :title="p.kind">{{ signs[p.kind] }}</span>
          <span>{{ p.label }}</span>
          <span class="faint">{{ p.isControl ? 'control, ' : '' }}{{ p.expected }}</span>
          <span class="mono st">{{ p.exchange?.status || '' }}</span>
        </button>
      </li>
    </ul>
  </section>
</template>

<style scoped>
section {
  margin-bottom: 16px;
}
.small {
  width: 16px;
  height: 16px;
  font-size: 10px;
  vertical-align: 1px;
}
.probes {
  list-style: none;
  margin: 0 -10px;
  padding: 0;
}
.probes button {
  width: 100%;
  display: grid;
  grid-template-columns: 20px minmax(0, auto) 1fr 36px;
  gap: 6px;
  align-items: baseline;
  padding: 2px 10px;
  border-radius: 4px;
}
.probes button:hover,
.probes .on {
  background: var(--ground);
}
.probes .faint {
  font-size: 12px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.none {
  text-align: center;
  color: var(--mark);
}
.st {
  text-align: right;
}
</style>
