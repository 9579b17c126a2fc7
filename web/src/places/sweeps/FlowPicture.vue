<script setup lang="ts">
import { computed } from 'vue'
import type { SweepComparison } from '../../api/client'
import { kindColour } from '../../theme/kinds'
import { flow } from './flow'

// Findings as they flow from one sweep to a later one: what ends between them, and what begins.
const props = defineProps<{ comparison: SweepComparison }>()
const f = computed(() => flow(props.comparison.items))
const x = { left: 210, end: 440, begin: 720, right: 930 }
const width = 14

function band(from: number, to: number, a: number, b: number) {
  const bend = (b - a) * 0.45
  return `M${a} ${from}C${a + bend} ${from} ${b - bend} ${to} ${b} ${to}`
}
function path(b: ReturnType<typeof flow>['bands'][number]) {
  if (b.change === 'unchanged') return band(b.from, b.to, x.left + width, x.right)
  if (['new', 'back'].includes(b.change)) return band(b.from, b.to, x.begin, x.right)
  return band(b.from, b.to, x.left + width, x.end)
}
const says: Record<string, string> = {
  mended: 'probed, no gap',
  moved: 'by the declaration',
  'not checked': 'nothing can be said',
  new: 'never a gap before',
  back: 'mended in between',
}
const sum = (list: { n: number }[]) => list.reduce((n, b) => n + b.n, 0)
const told = computed(() => {
  const by = new Map<string, number>()
  for (const i of props.comparison.items) by.set(i.change, (by.get(i.change) ?? 0) + 1)
  return `From sweep ${props.comparison.from.sweep} with ${sum(f.value.left)} findings to sweep ${
    props.comparison.to.sweep
  } with ${sum(f.value.right)}: ${[...by].map(([c, n]) => `${n} ${c}`).join(', ') || 'none in either'}.`
})
</script>

<template>
  <svg :viewBox="`0 0 1140 ${f.height}`" role="img" :aria-label="told">
    <text :x="x.left + width" y="18" class="faint end">{{ sum(f.left) }} findings in {{ comparison.from.sweep }}</text>
    <text :x="x.right" y="18" class="faint">{{ sum(f.right) }} findings in {{ comparison.to.sweep }}</text>
    <path
      v-for="b in f.bands"
      :key="b.kind + b.change"
      :d="path(b)"
      :class="['band', b.change.replace(' ', '-')]"
      :style="{ strokeWidth: `${b.width}px` }"
    >
      <title>{{ b.n }} {{ b.change }}</title>
    </path>
    <g v-for="b in f.left" :key="`l${b.kind}`">
      <rect :x="x.left" :y="b.y" :width="width" :height="b.height" :fill="kindColour(b.kind)" />
      <text :x="x.left - 10" :y="b.y + b.height / 2 + 4" class="end">
        <tspan class="n">{{ b.n }}</tspan>
        {{ b.name }}
      </text>
    </g>
    <g v-for="b in f.right" :key="`r${b.kind}`">
      <rect :x="x.right" :y="b.y" :width="width" :height="b.height" :fill="kindColour(b.kind)" />
      <text :x="x.right + width + 10" :y="b.y + b.height / 2 + 4">
        <tspan class="n">{{ b.n }}</tspan>
        {{ b.name }}
      </text>
    </g>
    <g v-for="k in f.ended" :key="k.change" :class="k.change.replace(' ', '-')">
      <text :x="x.end + 10" :y="k.y + k.height / 2 - 2" class="n">{{ k.n }} {{ k.change }}</text>
      <text :x="x.end + 10" :y="k.y + k.height / 2 + 13" class="faint">{{ says[k.change] }}</text>
    </g>
    <g v-for="k in f.begun" :key="k.change" :class="k.change">
      <text :x="x.begin - 10" :y="k.y + k.height / 2 - 2" class="n end">{{ k.n }} {{ k.change }}</text>
      <text :x="x.begin - 10" :y="k.y + k.height / 2 + 13" class="faint end">{{ says[k.change] }}</text>
    </g>
  </svg>
</template>

<style scoped>
svg {
  display: block;
  width: 100%;
}
text {
  font: 13px var(--text);
  fill: var(--ink);
}
.faint {
  fill: var(--faint);
  font-size: 12px;
}
.n {
  font-weight: 650;
}
.end {
  text-anchor: end;
}
.band {
  fill: none;
  stroke: color-mix(in srgb, var(--mark) 24%, transparent);
}
.band.mended {
  stroke: color-mix(in srgb, var(--ok) 40%, transparent);
}
.band.moved {
  stroke: color-mix(in srgb, var(--X) 32%, transparent);
}
.band.new,
.band.back {
  stroke: color-mix(in srgb, var(--U) 34%, transparent);
}
.band.back {
  stroke: color-mix(in srgb, var(--U) 58%, transparent);
}
.mended .n {
  fill: var(--ok);
}
.new .n,
.back .n {
  fill: var(--U);
}
.moved .n {
  fill: var(--X);
}
</style>
