<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { watch } from 'vue'
import type { Life } from '../../api/client'
import WroteLines from '../../parts/WroteLines.vue'
import { members, useDraft } from '../../composables/useDraft'

// A lifetime, edited while the bars and what follows from them go with it.
const props = defineProps<{ life: Life; kind: string }>()
const emit = defineEmits<{ draft: [text: string] }>()

const fields: [string, string, string][] = [
  ['max', 'at most', 'no end'],
  ['idle', 'unused', 'never'],
  ['skew', 'clock skew', 'none'],
  ['ended_within', 'after logout', 'works on'],
]
const names = fields.map(([n]) => n)
const { form, changed, error, fresh, draft, lines, put, reset } = useDraft(
  names,
  () => props.life.text,
  () => props.life.name,
  members('lifetimes', () => props.life.name),
)
watch(draft, (t) => emit('draft', t))
const what = () =>
  props.life.of === 'refresh' ? 'a refresh token' : props.kind === 'bearer' ? 'an access token' : 'it'
</script>

<template>
  <form class="life" @submit.prevent="put">
    <b :title="`lifetime ${life.name}`">{{ what() }} lives</b>
    <label v-for="[n, label, none] in fields" :key="n"
      >{{ label }}
      <NInput
        v-model:value="form[n]"
        size="tiny"
        class="mono"
        :placeholder="none"
        :input-props="{ 'aria-label': `${life.name}: ${label}`, spellcheck: false }"
    /></label>
    <template v-if="changed">
      <NButton size="tiny" type="primary" attr-type="submit" :disabled="!fresh || !!error">Change it</NButton>
      <NButton size="tiny" @click="reset">As it is</NButton>
      <span v-if="error" class="bad" role="alert">{{ error }}</span>
    </template>
    <WroteLines class="wide" :lines="lines" />
  </form>
</template>

<style scoped>
.life {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px 12px;
  margin-top: 8px;
}
b {
  min-width: 140px;
  font-weight: 400;
}
label {
  display: flex;
  align-items: center;
  gap: 6px;
  color: var(--faint);
  font-size: 13px;
}
.wide {
  flex-basis: 100%;
}
.mono {
  width: 104px;
}
.bad {
  color: var(--U);
}
</style>
