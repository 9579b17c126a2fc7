<script setup lang="ts">
import { NButton, NCheckbox, NRadio, NRadioGroup } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import type { Exchange } from '../api/client'
import { members, useDraft } from '../composables/useDraft'
import { useLeft } from '../composables/useLeft'
import WroteLines from '../parts/WroteLines.vue'
import { contractOf } from './contract'

// An error that was seen becomes what all errors, or all of its status, must be like.
const props = defineProps<{ exchange: Exchange }>()

const open = ref(false)
const of = ref('')
const { left, toggle } = useLeft()
const seen = computed(() => contractOf(props.exchange))
// What was not seen says nothing of what is declared, so that nothing is taken away.
const { form, changed, error, fresh, draft, lines, put } = useDraft(
  ['type', 'headers', 'has'],
  () => ({}),
  () => of.value,
  members('answers', () => of.value),
  'Answers ',
)
watch(
  () => props.exchange,
  () => {
    open.value = false
    left.value.clear()
    of.value = String(props.exchange.status)
  },
  { immediate: true },
)
watch(
  [open, of, seen, left],
  () => {
    const take = (list: string[]) => (open.value ? list.filter((x) => x && !left.value.has(x)).join(', ') : '')
    form.type = take([seen.value.type])
    form.headers = take(seen.value.headers)
    form.has = take(seen.value.has)
  },
  { deep: true, flush: 'post' },
)
function write() {
  put()
  open.value = false
}
</script>

<template>
  <p v-if="!open && seen.type" class="more">
    <button class="bare link" title="Declare that errors are like this one" @click="open = true">
      Make this the contract…
    </button>
  </p>
  <form v-else-if="open" class="contract" @submit.prevent="write">
    <NRadioGroup v-model:value="of" size="small" name="of" aria-label="Which answers">
      <NRadio :value="String(exchange.status)">every {{ exchange.status }}</NRadio>
      <NRadio value="errors">every error of no other rule</NRadio>
    </NRadioGroup>
    <div class="parts">
      <NCheckbox
        v-for="x in [seen.type, ...seen.headers, ...seen.has]"
        :key="x"
        size="small"
        :checked="!left.has(x)"
        @update:checked="(on: boolean) => toggle(x, on)"
        ><span class="mono">{{ x }}</span></NCheckbox
      >
    </div>
    <WroteLines :lines="lines" />
    <span v-if="error" class="bad" role="alert">{{ error }}</span>
    <span v-else-if="changed && fresh && draft && !lines.length" class="faint">That is what it says already.</span>
    <div class="acts">
      <NButton size="small" type="primary" attr-type="submit" :disabled="!fresh || !lines.length">Write it</NButton>
      <NButton size="small" @click="open = false">Leave it</NButton>
    </div>
  </form>
</template>

<style scoped>
.more {
  margin: 4px 0 0;
}
.link {
  color: var(--mill);
}
.contract {
  display: grid;
  gap: 6px;
  margin-top: 6px;
  padding: 8px 10px;
  border: 1px solid var(--line);
  border-radius: 4px;
}
.parts {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
}
.bad {
  color: var(--U);
}
.acts {
  display: flex;
  gap: 8px;
}
</style>
