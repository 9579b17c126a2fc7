<script setup lang="ts">
import { computed } from 'vue'
import { diffLines } from './lines'

const props = defineProps<{ from: string; to: string; most?: number }>()
const all = computed(() => diffLines(props.from, props.to))
const shown = computed(() => all.value.slice(0, props.most ?? 400))
const says: Record<string, string> = { '+': 'new: ', '-': 'gone: ', ' ': '' }
</script>

<template>
  <div class="diff mono" role="list" aria-label="Changed lines">
    <div v-for="(l, i) in shown" :key="i" role="listitem" :class="{ new: l.sign === '+', gone: l.sign === '-' }">
      <span class="n" aria-hidden="true">{{ l.sign === '-' ? '' : l.line }}</span>
      <span class="s" aria-hidden="true">{{ l.sign }}</span>
      <span class="t"
        ><span class="visually-hidden">{{ says[l.sign] }}</span
        >{{ l.text || ' ' }}</span
      >
    </div>
    <p v-if="all.length > shown.length" class="faint">and {{ all.length - shown.length }} more lines</p>
    <p v-if="!all.length" class="faint">The texts are the same.</p>
  </div>
</template>

<style scoped>
.diff > div {
  display: grid;
  grid-template-columns: 40px 14px minmax(0, 1fr);
}
.n {
  color: var(--faint);
  text-align: right;
  padding-right: 6px;
}
.t {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.new {
  background: color-mix(in srgb, var(--mill) 12%, transparent);
}
.gone {
  background: color-mix(in srgb, var(--P) 11%, transparent);
}
.gone .t {
  text-decoration: line-through;
  text-decoration-color: color-mix(in srgb, var(--P) 60%, transparent);
}
</style>
