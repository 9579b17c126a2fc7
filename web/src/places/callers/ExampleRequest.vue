<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'

/** One text with requests that worked, and who sent them. */
defineProps<{ nth: number; alone: boolean }>()
const text = defineModel<string>('text', { required: true })
const whose = defineModel<string>('whose', { required: true })
const role = defineModel<string>('role', { required: true })
defineEmits<{ drop: [] }>()
</script>

<template>
  <div>
    <NInput
      v-model:value="text"
      type="textarea"
      size="small"
      :autosize="{ minRows: nth > 1 ? 2 : 5, maxRows: 6 }"
      placeholder="curl 'https://…' -H '…'"
      :input-props="{ 'aria-label': `Request ${nth}`, spellcheck: false }"
    />
    <p class="whose">
      <NInput
        v-model:value="whose"
        size="small"
        placeholder="who sent it, if need be"
        :input-props="{ 'aria-label': `Who sent request ${nth}` }"
      />
      <NInput
        v-model:value="role"
        size="small"
        placeholder="their role"
        :input-props="{ 'aria-label': `Role of who sent request ${nth}` }"
      />
      <NButton v-if="!alone" size="small" @click="$emit('drop')">Leave out</NButton>
    </p>
  </div>
</template>

<style scoped>
div :deep(.n-input__textarea-el) {
  font: 12.5px/18px var(--mono);
}
.whose {
  display: flex;
  gap: 8px;
  margin: 4px 0 10px;
}
</style>
