<script setup lang="ts">
import { useLocalStorage } from '@vueuse/core'
import { NButton, NInput } from 'naive-ui'
import { ref, watch } from 'vue'
import DialogCard from './DialogCard.vue'

// Asks why something is accepted, by whom and until when.
const show = defineModel<boolean>('show', { required: true })
defineProps<{ title: string; what: string; after: string }>()
const emit = defineEmits<{ waive: [how: { reason: string; by: string; until: string }] }>()
const reason = ref('')
const by = useLocalStorage('millgate.by', '')
const until = ref('')
watch(show, (s) => {
  if (!s) return
  reason.value = ''
  const d = new Date()
  d.setMonth(d.getMonth() + 6)
  until.value = d.toISOString().slice(0, 10)
})
</script>

<template>
  <DialogCard v-model:show="show" :title="title" :width="480">
    <p>{{ what }}</p>
    <div class="form">
      <label for="waive-reason">Reason</label>
      <NInput v-model:value="reason" :input-props="{ id: 'waive-reason' }" placeholder="Why it is accepted" />
      <label for="waive-by">By</label>
      <NInput v-model:value="by" :input-props="{ id: 'waive-by' }" placeholder="Who accepts it" />
      <label for="waive-until">Until</label>
      <NInput v-model:value="until" :input-props="{ id: 'waive-until', type: 'date' }" />
    </div>
    <p class="faint">{{ after }}</p>
    <div class="acts">
      <NButton
        type="primary"
        :disabled="!reason.trim()"
        @click="emit('waive', { reason: reason.trim(), by: by.trim(), until })"
        >Waive</NButton
      >
      <NButton @click="show = false">Leave it</NButton>
    </div>
  </DialogCard>
</template>

<style scoped>
.form {
  display: grid;
  grid-template-columns: 72px minmax(0, 1fr);
  gap: 8px 12px;
  align-items: center;
  margin: 12px 0;
}
.acts {
  display: flex;
  gap: 8px;
  justify-content: flex-end;
}
</style>
