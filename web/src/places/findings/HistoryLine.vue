<script setup lang="ts">
import { computed } from 'vue'
import type { FindingDetail } from '../../api/client'
import { exact } from '../../parts/time'
import { asks } from './filter'

// What became of a finding, sweep by sweep: a filled mark where it was a gap, a ring where it was not looked at.
const props = defineProps<{ detail: FindingDetail }>()
const most = 24
const from = computed(() => Math.max(0, props.detail.points.length - most))
const list = computed(() =>
  props.detail.points.slice(from.value).map((p, i) => {
    const k = from.value + i
    const state = props.detail.states[k] ?? ''
    return {
      x: 14 + (i * (432 - 28)) / Math.max(1, Math.min(most, props.detail.points.length) - 1),
      p,
      state,
      why: props.detail.whys[k] ?? '',
      name: p.anew ? 'now' : String(p.sweep),
      gap: asks(state as never) || state === 'waived',
    }
  }),
)
const revisions = computed(() =>
  list.value.filter((m, i) => i > 0 && m.p.revision !== list.value[i - 1]!.p.revision).map((m) => m.x),
)
const says = computed(() => list.value.map((m) => `${m.name}: ${m.state || 'not known yet'}`).join(', '))
const each = computed(() => Math.ceil(list.value.length / 14))
</script>

<template>
  <svg viewBox="0 0 432 46" role="img" :aria-label="says">
    <path d="M8 16H424" class="rail" />
    <path v-for="x in revisions" :key="x" :d="`M${x - 9} 8V24`" class="revision">
      <title>another revision of the declaration</title>
    </path>
    <g v-for="(m, i) in list" :key="i" :class="m.state.replace(' ', '-') || 'before'">
      <title>
        {{ m.name }}, {{ exact(m.p.at) }}, revision {{ m.p.revision }}: {{ m.state || 'not known yet'
        }}{{ m.why ? `; ${m.why}` : '' }}
      </title>
      <circle :cx="m.x" cy="16" :r="m.state ? 5.5 : 2" />
      <path v-if="m.state === 'mended'" :d="`M${m.x - 3} 16l2 2.5 4-5`" />
      <text v-if="i % each === 0 || i === list.length - 1" :x="m.x" y="40">{{ m.name }}</text>
    </g>
  </svg>
</template>

<style scoped>
svg {
  width: 100%;
  max-width: 460px;
}
.rail {
  stroke: var(--line);
}
.revision {
  stroke: var(--mark);
  stroke-dasharray: 2 2;
}
text {
  font: 10.5px var(--mono);
  fill: var(--faint);
  text-anchor: middle;
}
circle {
  fill: var(--U);
}
.before circle {
  fill: var(--mark);
}
.waived circle {
  fill: var(--sheet);
  stroke: var(--U);
  stroke-width: 1.6;
}
.not-checked circle {
  fill: var(--sheet);
  stroke: var(--mark);
  stroke-dasharray: 2 2;
}
.mended circle,
.moved circle {
  fill: var(--sheet);
  stroke: var(--ok);
  stroke-width: 1.6;
}
.moved circle {
  stroke: var(--X);
}
.mended path {
  fill: none;
  stroke: var(--ok);
  stroke-width: 1.6;
}
</style>
