<script setup lang="ts">
import { NInput } from 'naive-ui'
import { computed, ref } from 'vue'
import type { Heading } from '../../api/client'

// The sections of the text and what they declare, to be gone to.
const props = defineProps<{ list: Heading[] }>()
const emit = defineEmits<{ go: [line: number] }>()
const filter = ref('')
const headings = computed(() => {
  const f = filter.value.trim().toLowerCase()
  return f ? props.list.filter((h) => h.name.toLowerCase().includes(f)) : props.list
})
</script>

<template>
  <NInput
    v-model:value="filter"
    size="small"
    clearable
    placeholder="Find a name"
    :input-props="{ 'aria-label': 'Find a name' }"
  />
  <ul class="outline">
    <li v-for="(h, i) in headings.slice(0, 1500)" :key="i" :class="{ sec: h.depth === 0 }">
      <button class="bare mono" @click="emit('go', h.line)">
        <span>{{ h.name }}</span><span class="faint">{{ h.line }}</span>
      </button>
    </li>
  </ul>
</template>

<style scoped>
.outline {
  list-style: none;
  margin: 8px 0 0;
  padding: 0;
}
.outline button {
  display: flex;
  justify-content: space-between;
  gap: 8px;
  width: 100%;
  padding: 1px 4px 1px 16px;
  border-radius: 4px;
}
.outline button:hover {
  background: var(--ground);
}
.outline .sec button {
  padding-left: 4px;
  margin-top: 6px;
  font-weight: 650;
}
</style>
