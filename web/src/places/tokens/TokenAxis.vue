<script setup lang="ts">
import { computed } from 'vue'
import type { TokenView } from '../../api/client'
import { exact, span } from '../../parts/time'

const props = defineProps<{ axis: TokenView['axis'] }>()

const W = 720
const L = 96 // the lanes' names
interface Bar {
  name: string
  from: number
  to: number
  kind: 'life' | 'declared' | 'over' | 'after'
  says: string
}
const t = (s?: string) => (s ? new Date(s).getTime() : 0)
const now = computed(() => t(props.axis.now))
const begins = computed(() => t(props.axis.begins) || t(props.axis.issued))
const ends = computed(() => t(props.axis.ends))
const declared = computed(() => t(props.axis.declaredEnd))

const range = computed(() => {
  const points = [now.value, begins.value, ends.value, declared.value].filter(Boolean)
  let from = Math.min(...points)
  let to = Math.max(...points)
  // A token of years ago must not press the rest into a line.
  const life = Math.max(60_000, (ends.value || declared.value || now.value) - (begins.value || now.value))
  from = Math.max(from, Math.min(now.value, begins.value || now.value) - life * 4)
  to = Math.min(to, Math.max(ends.value, declared.value, begins.value) + life * 4)
  const pad = Math.max(1000, (to - from) * 0.06)
  return { from: from - pad, to: to + pad }
})
const x = (at: number) => {
  const r = range.value
  return L + Math.min(1, Math.max(0, (at - r.from) / (r.to - r.from))) * (W - L - 8)
}
const length = (ms: number) => span(Math.abs(ms) / 1000)

const lanes = computed<Bar[]>(() => {
  const out: Bar[] = []
  if (begins.value && ends.value) {
    const over = declared.value && ends.value > declared.value
    out.push({
      name: 'the token',
      from: begins.value,
      to: over ? declared.value : ends.value,
      kind: 'life',
      says: `lives ${length(ends.value - begins.value)}`,
    })
    if (over)
      out.push({
        name: '',
        from: declared.value,
        to: ends.value,
        kind: 'over',
        says: `${length(ends.value - declared.value)} longer than declared`,
      })
  } else if (begins.value) {
    out.push({ name: 'the token', from: begins.value, to: range.value.to, kind: 'over', says: 'never ends' })
  }
  if (declared.value)
    out.push({
      name: 'declared',
      from: begins.value,
      to: declared.value,
      kind: 'declared',
      says: `at most ${length(declared.value - begins.value)}`,
    })
  if (props.axis.afterlife !== undefined && ends.value > now.value)
    out.push({
      name: 'after logout',
      from: now.value,
      to: now.value + props.axis.afterlife * 1000,
      kind: 'after',
      says: props.axis.afterlife
        ? `a logout now ends it within ${span(props.axis.afterlife)}`
        : 'a logout now ends it at once, by the declaration',
    })
  return out
})
const rows = computed(() => {
  let y = -1
  return lanes.value.map((b) => ({ ...b, y: b.name ? ++y : y }))
})
const height = computed(() => 30 + (Math.max(0, ...rows.value.map((r) => r.y)) + 1) * 30)
const sentence = computed(() => {
  if (!ends.value) return begins.value ? 'It says no end.' : 'It says neither when it begins nor when it ends.'
  const d = ends.value - now.value
  return d > 0 ? `It ends in ${length(d)}.` : `It ended ${length(d)} ago.`
})
</script>

<template>
  <figure v-if="begins || ends" class="axis">
    <figcaption>
      {{ sentence }} <span class="faint">{{ ends ? exact(axis.ends) : '' }}</span>
    </figcaption>
    <svg :viewBox="`0 0 ${W} ${height}`" role="img" :aria-label="rows.map((r) => `${r.name} ${r.says}`).join(', ')">
      <g v-for="(b, i) in rows" :key="i">
        <text v-if="b.name" x="0" :y="b.y * 30 + 38" class="name">{{ b.name }}</text>
        <rect
          :x="x(b.from)"
          :y="b.y * 30 + 28"
          :width="Math.max(3, x(b.to) - x(b.from))"
          height="12"
          rx="2"
          :class="b.kind"
        />
        <text
          :x="b.kind === 'over' || x(b.to) > W - 190 ? x(b.to) - 6 : x(b.to) + 6"
          :y="b.y * 30 + (b.kind === 'over' ? 24 : 38)"
          :text-anchor="b.kind === 'over' || x(b.to) > W - 190 ? 'end' : 'start'"
          class="says"
          :class="{ inside: b.kind !== 'over' && x(b.to) > W - 190 }"
        >
          {{ b.says }}
        </text>
      </g>
      <line :x1="x(now)" :x2="x(now)" y1="14" :y2="height" class="now" />
      <text :x="x(now)" y="11" text-anchor="middle" class="says">now</text>
    </svg>
  </figure>
</template>

<style scoped>
.axis {
  margin: 0;
}
figcaption {
  margin-bottom: 2px;
  font-weight: 600;
}
figcaption .faint {
  font-weight: 400;
}
svg {
  width: 100%;
  max-width: 860px;
  display: block;
}
text {
  font-size: 12px;
  fill: var(--ink);
}
.says {
  fill: var(--faint);
}
.inside {
  fill: var(--ink);
}
.life {
  fill: var(--mill);
  opacity: 0.55;
}
.declared {
  fill: none;
  stroke: var(--faint);
  stroke-dasharray: 4 3;
}
.over {
  fill: var(--X);
}
.after {
  fill: var(--mill);
}
.now {
  stroke: var(--ink);
  stroke-width: 1;
}
</style>
