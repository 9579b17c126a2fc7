<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { storeToRefs } from 'pinia'
import { computed, ref, useId } from 'vue'
import type { Tick } from '../api/client'
import { useSweep } from '../stores/sweep'
import { useWorkspace } from '../stores/workspace'
import { isGap, kindColour, kindName } from '../theme/kinds'

// The verdicts of a sweep in the order in which they were sent: gaps are drawn in their colours, all
// others as one bar; what is under the pointer is found by its place.
const emit = defineEmits<{ show: [t: Tick] }>()
const sweep = useSweep()
const { line, running } = storeToRefs(sweep)
const { target } = storeToRefs(useWorkspace())
const box = ref<HTMLElement | null>(null)
const { width } = useElementSize(box)
const total = computed(() => Math.max(1, running.value?.planned ?? 0, line.value.total))

const id = useId()
const quiet = computed(() => (1000 * line.value.total) / total.value)
const loud = computed(() => {
  const w = 1000 / total.value
  return line.value.gaps.map((g) => ({ x: g.at * w, w: Math.max(2.2, w * 0.6), kind: g.tick.kind }))
})

const under = ref<{ t: Tick; x: number } | null>(null)
let asked = 0
async function point(e: MouseEvent) {
  const left = box.value?.getBoundingClientRect().left ?? 0
  const x = e.clientX - left
  const step = width.value / total.value
  const at = Math.floor(x / step)
  const mine = ++asked
  // A gap close by is meant rather than the agreeing verdict beside it.
  const reach = Math.max(3, Math.ceil(3 / Math.max(step, 0.01)))
  const near = line.value.gaps
    .filter((g) => Math.abs(g.at - at) <= reach)
    .sort((a, b) => Math.abs(a.at - at) - Math.abs(b.at - at))[0]
  if (near) {
    under.value = { t: near.tick, x }
    return
  }
  try {
    const t = await sweep.at(at, target.value)
    if (mine === asked) under.value = t && { t, x }
  } catch {
    under.value = null // there is nothing to show, and nobody asked for an error
  }
}
function leave() {
  asked++
  under.value = null
}
</script>

<template>
  <div ref="box" class="line" @mousemove="point" @mouseleave="leave" @click="under && emit('show', under.t)">
    <svg v-if="line.total" viewBox="0 0 1000 20" preserveAspectRatio="none" aria-hidden="true">
      <defs>
        <pattern :id="id" patternUnits="userSpaceOnUse" :width="1000 / total" height="20">
          <rect :width="600 / total" height="20" class="agree" />
        </pattern>
      </defs>
      <rect x="0" y="0" :width="quiet" height="20" :fill="`url(#${id})`" />
      <rect v-for="(b, i) in loud" :key="i" :x="b.x" y="0" :width="b.w" height="20" :fill="kindColour(b.kind)" />
    </svg>
    <span v-if="under" class="tip" :style="{ left: `${under.x}px` }"
      ><span class="kind" :class="isGap(under.t.kind) && `k-${under.t.kind}`">{{
        isGap(under.t.kind) ? under.t.kind : '·'
      }}</span>
      {{ isGap(under.t.kind) ? kindName(under.t.kind) : under.t.kind }}: {{ under.t.who }} at {{ under.t.route }}</span
    >
  </div>
</template>

<style scoped>
.line {
  position: relative;
  flex: 1;
  min-width: 60px;
  height: 16px;
  background: var(--ground);
  border-radius: 4px;
  cursor: pointer;
}
.line svg {
  width: 100%;
  height: 100%;
  display: block;
}
.agree {
  fill: var(--mark);
  opacity: 0.55;
}
.tip {
  position: absolute;
  bottom: 22px;
  transform: translateX(-70%);
  padding: 3px 8px;
  background: var(--sheet);
  border: 1px solid var(--line);
  border-radius: 4px;
  box-shadow: var(--shadow);
  pointer-events: none;
  z-index: 10;
}
</style>
