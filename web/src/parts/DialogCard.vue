<script setup lang="ts">
import { X } from '@lucide/vue'
import { NModal } from 'naive-ui'
import { useId } from 'vue'

const show = defineModel<boolean>('show', { required: true })
defineProps<{ title: string; width?: number }>()
const id = useId()
</script>

<template>
  <NModal v-model:show="show" :auto-focus="true">
    <div
      class="dialog sheet"
      role="dialog"
      aria-modal="true"
      :aria-labelledby="id"
      :style="{ width: `${width ?? 560}px` }"
    >
      <header>
        <h1 :id="id">{{ title }}</h1>
        <button class="bare" aria-label="Close" @click="show = false"><X :size="16" /></button>
      </header>
      <slot></slot>
    </div>
  </NModal>
</template>

<style scoped>
.dialog {
  padding: 16px 20px 20px;
  box-shadow: var(--shadow);
  color: var(--ink);
}
header {
  display: flex;
  justify-content: space-between;
  align-items: start;
  margin-bottom: 8px;
}
header button {
  color: var(--faint);
}
</style>
