<script setup lang="ts">
import { computed } from 'vue'
import type { Point, State } from '../../api/client'
import { strip } from './groups'

// The last sweeps of a finding: a mark for each, of another shape, not only another colour.
const props = defineProps<{ marks: State[]; points: Point[] }>()
const kinds: Record<State, string> = {
  new: 'gap',
  'back again': 'gap',
  open: 'gap',
  waived: 'waived',
  mended: 'mended',
  moved: 'moved',
  'not checked': 'unseen',
}
const list = computed(() => strip(props.marks, props.points))
const says = computed(() =>
  list.value
    .map((m, i) => `${props.points[i]?.anew ? 'now' : props.points[i]?.sweep}: ${m ?? 'not known yet'}`)
    .join(', '),
)
</script>

<template>
  <svg :width="points.length * 10" height="14" role="img" :aria-label="says">
    <title>{{ says }}</title>
    <g v-for="(m, i) in list" :key="i" :transform="`translate(${i * 10} 0)`" :class="m ? kinds[m] : 'before'">
      <circle v-if="!m" cx="4" cy="7" r="1" />
      <path v-else-if="m === 'mended'" d="M0 7H8" />
      <path v-else-if="m === 'moved'" d="M0 10L4 5L8 10" />
      <rect v-else-if="m === 'not checked'" x="1" y="2" width="6" height="10" rx="1" />
      <template v-else-if="m === 'waived'">
        <rect x="1" y="2" width="6" height="10" rx="1" />
        <path d="M2.5 7H5.5" />
      </template>
      <rect v-else x="0.5" y="1.5" width="7" height="11" rx="1.5" />
    </g>
  </svg>
</template>

<style scoped>
svg {
  display: block;
  overflow: visible;
}
.gap rect {
  fill: var(--ink);
}
.waived rect,
.unseen rect {
  fill: none;
  stroke: var(--mark);
}
.unseen rect {
  stroke-dasharray: 2 1.6;
}
.waived path {
  stroke: var(--mark);
}
.mended path {
  stroke: var(--ok);
  stroke-width: 2;
}
.moved path {
  fill: none;
  stroke: var(--X);
  stroke-width: 1.6;
}
.before circle {
  fill: var(--mark);
}
</style>
