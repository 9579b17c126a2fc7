<script setup lang="ts">
import type { Head } from '../lenses'

// The columns' names, and the grip that widens the one for paths.
defineProps<{
  heads: Head[]
  rows: number
  count: number
  narrow: boolean
  height: number
  editing: boolean
  lit: number // the column of the pointer or of the focus, -1 without
}>()
const emit = defineEmits<{ drag: [e: PointerEvent]; head: [h: Head] }>()
</script>

<template>
  <div class="head" :class="{ narrow }" :style="{ height: `${height}px` }" role="row" aria-rowindex="1">
    <div class="left" role="columnheader">
      <div class="title">
        <b>Route</b><small>{{ rows === count ? `${count} routes by prefix` : `${rows} of ${count} routes` }}</small>
      </div>
      <span class="grip" aria-hidden="true" title="Drag to widen" @pointerdown.prevent="emit('drag', $event)"></span>
    </div>
    <div
      v-for="(h, c) in heads"
      :key="h.key + h.folded"
      class="col"
      :class="{ lit: lit === c }"
      role="columnheader"
      :aria-colindex="c + 2"
    >
      <button
        v-if="h.folded || editing"
        class="bare"
        :title="
          editing
            ? `Select every crossing of ${h.label}`
            : `${h.columns.length} identities that the declaration cannot tell apart; click to open`
        "
        tabindex="-1"
        @click="emit('head', h)"
      >
        <b>{{ h.label }}</b><small>{{ h.sub }}</small>
      </button>
      <div v-else :title="h.title ?? `${h.label}, ${h.sub}`">
        <b>{{ h.label }}</b><small>{{ h.sub }}</small>
      </div>
    </div>
  </div>
</template>

<style scoped>
.head {
  position: sticky;
  top: 0;
  z-index: 3;
  display: flex;
  height: 45px;
  background: var(--sheet);
  border-bottom: 1px solid var(--line);
}
.left {
  position: sticky;
  left: 0;
  z-index: 2;
  flex: none;
  display: flex;
  align-items: center;
  width: calc(12px + 58px + var(--route) + 90px);
  padding-left: 12px;
  background: var(--sheet);
}
.head .left {
  align-items: end;
  padding-bottom: 6px;
  z-index: 4;
}
.title b,
.col b {
  display: block;
  font-weight: 600;
  line-height: 15px;
  font-size: 13px;
}
small {
  display: block;
  font-size: 11px;
  line-height: 12px;
  color: var(--faint);
}
.grip {
  position: absolute;
  left: calc(68px + var(--route));
  top: 6px;
  bottom: 6px;
  width: 7px;
  cursor: col-resize;
  border-left: 1px solid var(--line);
}
.col {
  flex: none;
  width: var(--cell);
  display: flex;
  align-items: end;
  justify-content: center;
  text-align: center;
  padding-bottom: 6px;
  overflow: hidden;
}
.col b {
  font-size: var(--name);
}
.narrow .col b {
  font-size: 13px;
}
.col b,
.col small {
  overflow: hidden;
  text-overflow: ellipsis;
}
.col > * {
  max-width: 100%;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  text-align: center;
}
.col.lit {
  background: var(--mill-soft);
}
.narrow .col > * {
  writing-mode: vertical-rl;
  transform: rotate(180deg);
  text-align: left;
  max-height: 100%;
}
</style>
