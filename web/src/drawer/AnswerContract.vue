<script setup lang="ts">
import { NButton, NCheckbox, NRadio, NRadioGroup } from 'naive-ui'
import { storeToRefs } from 'pinia'
import { computed, ref, watch } from 'vue'
import { api, ask, type Exchange } from '../api/client'
import { useAsk } from '../composables/useAsk'
import { useLeft } from '../composables/useLeft'
import { usePending } from '../stores/pending'
import { contractOf, lineOf } from './contract'

// An error that was seen becomes what all errors, or all of its status, must be like.
const props = defineProps<{ exchange: Exchange }>()
const pending = usePending()
const { text } = storeToRefs(pending)
const { busy, run } = useAsk()

const open = ref(false)
const of = ref('')
const { left, toggle } = useLeft()
const seen = computed(() => contractOf(props.exchange))
watch(
  () => props.exchange,
  () => {
    open.value = false
    left.value.clear()
    of.value = String(props.exchange.status)
  },
  { immediate: true },
)
const set = computed(() => {
  const take = (list: string[]) => list.filter((x) => !left.value.has(x))
  return { type: take([seen.value.type])[0] ?? '', headers: take(seen.value.headers), has: take(seen.value.has) }
})
async function write() {
  await run(async () => {
    const body = {
      text: text.value,
      section: 'answers' as const,
      item: of.value,
      set: Object.fromEntries(
        Object.entries({ type: set.value.type, headers: set.value.headers.join(', '), has: set.value.has.join(', ') })
          // What was not seen says nothing of what is declared.
          .filter(([, v]) => v),
      ),
    }
    const r = await ask(api.POST('/api/members/edit', { body }))
    pending.put(`Answers ${r.title}`, r.text)
    open.value = false
  })
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
    <code>{{ lineOf(of, set) }}</code>
    <div class="acts">
      <NButton size="small" type="primary" attr-type="submit" :loading="busy" :disabled="!lineOf(of, set)"
        >Write it</NButton
      >
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
code {
  color: var(--mill);
  overflow-wrap: anywhere;
}
.acts {
  display: flex;
  gap: 8px;
}
</style>
