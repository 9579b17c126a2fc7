<script setup lang="ts">
import { computed } from 'vue'

/** What a form would write, as it would stand in the declaration. */
const props = defineProps<{ lines: string[] }>()
const most = 6
const left = computed(() => {
  const indent = Math.min(...props.lines.filter(Boolean).map((l) => l.length - l.trimStart().length))
  return props.lines.slice(0, most).map((l) => l.slice(indent))
})
</script>

<template>
  <pre v-if="lines.length" class="wrote" aria-label="What it would write">{{ left.join('\n')
  }}<template v-if="lines.length > most">
… {{ lines.length - most }} more</template></pre>
</template>

<style scoped>
.wrote {
  margin: 4px 0 0;
  font: 12px/1.5 var(--mono);
  color: var(--mill);
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
