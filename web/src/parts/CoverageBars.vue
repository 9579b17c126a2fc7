<script setup lang="ts">
import type { Share } from '../api/client'
import { all, checked } from './coverage'

// How much of something was checked: proven, inferred, and what is left of the bar was not.
defineProps<{ list: Share[]; rows?: number }>()

function says(s: Share): string {
  const parts = [
    `${s.proven} proven`,
    s.inferred ? `${s.inferred} inferred` : '',
    s.unproven ? `${s.unproven} unproven` : '',
    s.unsent ? `${s.unsent} not sent` : '',
    s.left ? `${s.left} left out` : '',
    s.undecided ? `${s.undecided} nobody decided` : '',
  ]
  return `${s.name}: ${parts.filter(Boolean).join(', ')}, of ${all(s)} crossings`
}
const part = (n: number, s: Share) => `${(100 * n) / Math.max(1, all(s))}%`
</script>

<template>
  <ul class="coverage" :style="rows ? { gridTemplateRows: `repeat(${rows}, 17px)`, gridAutoFlow: 'column' } : {}">
    <li v-for="s in list" :key="s.name" :title="says(s)">
      <span class="name">{{ s.name }}</span>
      <span class="bar" aria-hidden="true">
        <span class="proven" :style="{ width: part(s.proven, s) }"></span>
        <span class="inferred" :style="{ width: part(s.inferred, s) }"></span>
      </span>
      <span class="mono n" :class="{ little: checked(s) < 80 }">{{ checked(s) }}%</span>
      <span class="visually-hidden">{{ says(s) }}</span>
    </li>
  </ul>
</template>

<style scoped>
.coverage {
  display: grid;
  gap: 1px 22px;
  margin: 0;
  padding: 0;
  list-style: none;
}
li {
  display: grid;
  grid-template-columns: minmax(84px, 1fr) 64px 34px;
  gap: 8px;
  align-items: center;
  height: 17px;
  font-size: 12px;
  white-space: nowrap;
  position: relative;
}
.name {
  color: var(--faint);
  overflow: hidden;
  text-overflow: ellipsis;
}
.bar {
  display: flex;
  height: 8px;
  background: var(--line);
}
.proven {
  background: var(--mill);
}
.inferred {
  background: color-mix(in srgb, var(--mill) 45%, var(--line));
}
.n {
  text-align: right;
  font-size: 11.5px;
}
.little {
  font-weight: 650;
  color: var(--P);
}
</style>
