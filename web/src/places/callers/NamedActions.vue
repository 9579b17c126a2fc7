<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { ref } from 'vue'
import type { CallerEdit } from '../../api/client'

// What can be done to a role or a scheme by its name: another one everywhere, or gone.
const props = defineProps<{ kind: CallerEdit['kind']; name: string }>()
const emit = defineEmits<{ edit: [change: Omit<CallerEdit, 'text'>] }>()
const to = ref(props.name)
</script>

<template>
  <div class="acts">
    <NInput v-model:value="to" size="small" :input-props="{ 'aria-label': `Another name for ${name}` }" />
    <NButton size="small" :disabled="!to.trim() || to === name" @click="emit('edit', { do: 'rename', kind, name, to })"
      >Rename everywhere</NButton
    >
    <NButton size="small" @click="emit('edit', { do: 'remove', kind, name })">Remove</NButton>
  </div>
</template>

<style scoped>
.acts {
  display: flex;
  gap: 8px;
  max-width: 460px;
  margin-top: 6px;
}
</style>
