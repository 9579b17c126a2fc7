<script setup lang="ts">
import { NButton } from 'naive-ui'
import { computed, ref } from 'vue'
import { lenses, type Lens } from '../lenses'
import type { Shown } from '../stores/workspace'
import FilterLine from '../parts/FilterLine.vue'
import { completions } from './filter'
import KindChips from './KindChips.vue'

// What stands above the grid: kinds of gap, the lens, and the filter.
const props = defineProps<{ board: Shown; lens: Lens; notFair: number; editing: boolean; wrong: string[] }>()
const q = defineModel<string>('q', { required: true })
const emit = defineEmits<{
  look: [id: Lens['id']]
  worklist: []
  judge: []
  edit: []
  legend: []
  leave: []
}>()
const edits = computed(() =>
  props.lens.id === 'origins'
    ? { label: 'Edit origins', says: 'Edit which pages may call' }
    : { label: 'Edit rules', says: 'Edit the rules on the board' },
)
const line = ref<InstanceType<typeof FilterLine> | null>(null)
defineExpose({ focus: () => line.value?.focus() })

function toggle(word: string) {
  const list = q.value.split(/\s+/).filter(Boolean)
  q.value = (
    list.includes(word)
      ? list.filter((w) => w !== word)
      : [...list.filter((w) => !word.startsWith('gap:') || !w.startsWith('gap:')), word]
  ).join(' ')
}
</script>

<template>
  <div class="tools">
    <KindChips :board="board" :q="q" :not-fair="notFair" @toggle="toggle" @worklist="emit('worklist')" />
    <div class="second">
      <div class="lens" role="group" aria-label="Lens">
        <button
          v-for="(l, i) in lenses"
          :key="l.id"
          class="bare"
          :class="{ on: lens === l }"
          :aria-pressed="lens === l"
          :title="`${l.question} (${i + 1})`"
          @click="emit('look', l.id)"
        >
          {{ l.name }}
        </button>
        <span>{{ lens.question }}</span>
      </div>
      <NButton v-if="lens.id === 'origins'" size="small" @click="emit('judge')">Judge answers…</NButton>
      <NButton v-if="!editing" size="small" :title="`${edits.says} (e)`" @click="emit('edit')">{{
        edits.label
      }}</NButton>
      <button class="bare legend" title="What the marks of the board mean (l)" @click="emit('legend')">Legend</button>
      <FilterLine
        ref="line"
        v-model="q"
        :complete="(text) => completions(text, board)"
        hint="path, role:operator, gap:unprotected …"
        :wrong="wrong"
        @leave="emit('leave')"
      />
    </div>
  </div>
</template>

<style scoped>
.tools {
  padding: 8px 12px;
  display: grid;
  grid-template-columns: minmax(0, 1fr);
  gap: 8px;
  border-bottom: 1px solid var(--line);
}
.second {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 16px;
  align-items: center;
}
.lens {
  color: var(--faint);
  white-space: nowrap;
  display: flex;
  gap: 10px;
  align-items: baseline;
}
.lens button {
  color: var(--faint);
  padding: 2px 0;
  border-bottom: 2px solid transparent;
}
.lens .on {
  color: var(--mill);
  font-weight: 600;
  border-color: var(--mill);
}
</style>
