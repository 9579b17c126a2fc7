<script setup lang="ts">
import { ref } from 'vue'
import type { CrossingSeen } from '../../api/client'
import { isGap } from '../../theme/kinds'

// The crossings of a finding as they are now; one of them is looked at.
defineProps<{ list: CrossingSeen[]; picked: string | undefined }>()
const emit = defineEmits<{ pick: [probe: string] }>()
const most = ref(40)
</script>

<template>
  <section>
    <h2>{{ list.length === 1 ? 'Its crossing' : `Its ${list.length} crossings` }}</h2>
    <ul>
      <li v-for="c in list.slice(0, most)" :key="c.probe">
        <button
          class="bare"
          :class="{ on: c.probe === picked }"
          :aria-pressed="c.probe === picked"
          :title="c.reason"
          @click="emit('pick', c.probe)"
        >
          <span v-if="isGap(c.kind)" class="kind small" :class="`k-${c.kind}`">{{ c.kind }}</span>
          <span v-else class="mono none" :title="c.kind">{{ c.kind === 'agrees' ? '·' : '?' }}</span>
          <span class="mono cut">{{ c.route }}</span>
          <span class="cut">{{ c.who }}</span>
          <span class="mono st">{{ c.status || '' }}</span>
        </button>
      </li>
    </ul>
    <button v-if="list.length > most" class="bare link" @click="most += 400">{{ list.length - most }} more</button>
  </section>
</template>

<style scoped>
section {
  margin-bottom: 12px;
}
ul {
  list-style: none;
  margin: 0 -8px;
  padding: 0;
}
button.bare:not(.link) {
  display: grid;
  grid-template-columns: 20px minmax(0, 1.4fr) minmax(0, 1fr) 32px;
  gap: 8px;
  align-items: baseline;
  width: 100%;
  padding: 2px 8px;
  border-radius: 4px;
}
button:hover,
.on {
  background: var(--ground);
}
.cut {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.small {
  width: 16px;
  height: 16px;
  font-size: 10px;
}
.none {
  text-align: center;
  color: var(--faint);
}
.st {
  text-align: right;
}
.link {
  color: var(--mill);
}
</style>
