<script setup lang="ts">
import { NButton, NInput, NSelect } from 'naive-ui'
import { computed, watch } from 'vue'
import type { Quota } from '../../api/client'
import WroteLines from '../../parts/WroteLines.vue'
import { members, useDraft } from '../../composables/useDraft'

// What is said of a quota, edited while the ceilings and the picture follow.
const props = defineProps<{ quota: Quota }>()
const draft = defineModel<string>('draft', { required: true })

const names = ['allow', 'counted_by', 'model', 'starts', 'burst', 'queue']
const {
  form,
  changed,
  error,
  fresh,
  draft: text,
  lines,
  put,
  reset,
} = useDraft(
  names,
  () => props.quota.text,
  () => props.quota.name,
  members('quotas', () => props.quota.name),
)
// Also at first: what another quota was drafted to is over.
watch(text, (t) => (draft.value = t), { immediate: true })

const models = [
  { value: 'fixed-window', label: 'fixed window' },
  { value: 'sliding-window', label: 'sliding window' },
  { value: 'token-bucket', label: 'token bucket' },
  { value: 'leaky-bucket', label: 'leaky bucket' },
  { value: 'concurrency', label: 'at the same time' },
]
const starts = [
  { value: 'first-call', label: 'with the first call' },
  { value: 'clock', label: 'by the clock' },
]
const counted = ['address', 'identity', 'identity or address', 'key', 'role', 'host', 'account', 'everyone']
const keys = computed(() => [...new Set([props.quota.text.counted_by ?? '', ...counted])].filter(Boolean))
const bucket = computed(() => form.model === 'token-bucket' || form.model === 'leaky-bucket')
function model(m: string) {
  form.model = m
  if (m !== 'fixed-window')
    form.starts = '' // it has a meaning there alone
  else form.starts ||= 'first-call'
  if (!bucket.value) form.burst = ''
}
</script>

<template>
  <form class="sheet edit" @submit.prevent="put">
    <label
      >allows
      <NInput
        v-model:value="form.allow"
        size="small"
        class="mono wide"
        placeholder="8 per 5m, 40 per 1d"
        :input-props="{ 'aria-label': 'allows', spellcheck: false }"
      />
    </label>
    <label
      >counted by
      <NSelect
        v-model:value="form.counted_by"
        size="small"
        filterable
        tag
        :options="keys.map((k) => ({ label: k, value: k }))"
        :consistent-menu-width="false"
        aria-label="Counted by"
      />
    </label>
    <label
      >model
      <NSelect
        :value="form.model"
        size="small"
        :options="models"
        :consistent-menu-width="false"
        aria-label="Model"
        @update:value="model"
      />
    </label>
    <label v-if="form.model === 'fixed-window'"
      >begins
      <NSelect
        v-model:value="form.starts"
        size="small"
        :options="starts"
        :consistent-menu-width="false"
        aria-label="Begins"
      />
    </label>
    <label v-if="bucket"
      >burst
      <NInput v-model:value="form.burst" size="small" class="mono" placeholder="as it allows" />
    </label>
    <label
      >may wait
      <NInput v-model:value="form.queue" size="small" class="mono" placeholder="none" />
    </label>
    <div class="acts">
      <NButton size="small" type="primary" attr-type="submit" :disabled="!changed || !fresh || !!error"
        >Change it</NButton
      >
      <NButton v-if="changed" size="small" @click="reset">As it is</NButton>
      <span v-if="error && changed" class="bad" role="alert">{{ error }}</span>
      <span v-else-if="changed" class="faint" role="status"
        >The table and the picture follow. It becomes a pending edit.</span
      >
    </div>
    <WroteLines class="lines" :lines="lines" />
  </form>
</template>

<style scoped>
.edit {
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: 8px 14px;
  padding: 10px 16px;
  margin: 10px 0 12px;
}
label {
  display: grid;
  gap: 2px;
  min-width: 110px;
  color: var(--faint);
  font-size: 13px;
}
.wide {
  width: 230px;
}
.acts {
  display: flex;
  align-items: center;
  gap: 10px;
  flex-basis: 100%;
}
.lines {
  flex-basis: 100%;
}
.bad {
  color: var(--U);
}
</style>
