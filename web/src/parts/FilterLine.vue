<script setup lang="ts">
import { computed, ref } from 'vue'

// A line of words that filter; what could follow is offered.
const props = defineProps<{
  modelValue: string
  complete: (text: string) => string[]
  hint: string // what could stand there
  wrong: string[] // words that mean nothing
}>()
const emit = defineEmits<{ 'update:modelValue': [text: string]; leave: [] }>()
const input = ref<HTMLInputElement | null>(null)
const open = ref(false)
const at = ref(-1)
const list = computed(() => (open.value ? props.complete(props.modelValue) : []))
defineExpose({ focus: () => input.value?.focus() })

function take(text: string) {
  emit('update:modelValue', text.endsWith(':') ? text : `${text} `)
  at.value = -1
  input.value?.focus()
}
function key(e: KeyboardEvent) {
  if (e.key === 'ArrowDown') at.value = Math.min(list.value.length - 1, at.value + 1)
  else if (e.key === 'ArrowUp') at.value = Math.max(-1, at.value - 1)
  else if (e.key === 'Tab' && list.value.length && props.modelValue.trim()) take(list.value[Math.max(0, at.value)]!)
  else if (e.key === 'Enter') {
    if (at.value >= 0) take(list.value[at.value]!)
    else emit('leave')
  } else if (e.key === 'Escape') {
    if (open.value && at.value >= 0) at.value = -1
    else if (props.modelValue) emit('update:modelValue', '')
    else emit('leave')
  } else return
  e.preventDefault()
}
</script>

<template>
  <div class="line" :class="{ bad: wrong.length }">
    <span class="slash mono" aria-hidden="true">/</span>
    <input
      ref="input"
      class="mono"
      :value="modelValue"
      :placeholder="hint"
      role="combobox"
      aria-label="Filter"
      :aria-expanded="list.length > 0"
      aria-controls="filter-words"
      aria-autocomplete="list"
      :aria-activedescendant="at >= 0 ? `filter-${at}` : undefined"
      spellcheck="false"
      @input="emit('update:modelValue', ($event.target as HTMLInputElement).value)"
      @focus="open = true"
      @blur="open = false"
      @keydown="key"
    />
    <span v-if="wrong.length" class="wrong">{{ wrong.join(' ') }} is not known</span>
    <button v-if="modelValue" class="bare clear" aria-label="Clear the filter" @click="emit('update:modelValue', '')">
      ×
    </button>
    <ul v-if="list.length" id="filter-words" role="listbox" aria-label="Words to filter by">
      <li
        v-for="(w, i) in list"
        :id="`filter-${i}`"
        :key="w"
        role="option"
        :aria-selected="i === at"
        class="mono"
        @mousedown.prevent="take(w)"
      >
        {{ w }}
      </li>
    </ul>
  </div>
</template>

<style scoped>
.line {
  position: relative;
  display: flex;
  align-items: center;
  flex: 1;
  min-width: 180px;
  max-width: 560px;
  height: 28px;
  border: 1px solid var(--line);
  border-radius: 4px;
  background: var(--sheet);
}
.line:focus-within {
  border-color: var(--mill);
}
.line.bad {
  border-color: var(--W);
}
.slash {
  padding: 0 6px 0 9px;
  color: var(--faint);
}
input {
  flex: 1;
  min-width: 0;
  border: 0;
  outline: 0;
  background: none;
  color: var(--ink);
}
input::placeholder {
  color: var(--faint);
}
.wrong {
  color: var(--W);
  font-size: 12px;
  padding-right: 8px;
}
.clear {
  padding: 0 8px;
  color: var(--faint);
  font-size: 16px;
}
ul {
  position: absolute;
  z-index: 20;
  top: 30px;
  left: -1px;
  min-width: 240px;
  margin: 0;
  padding: 4px 0;
  list-style: none;
  background: var(--sheet);
  border: 1px solid var(--line);
  border-radius: 4px;
  box-shadow: var(--shadow);
}
li {
  padding: 2px 12px;
  cursor: pointer;
}
li:hover,
li[aria-selected='true'] {
  background: var(--mill-soft);
}
</style>
