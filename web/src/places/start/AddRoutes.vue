<script setup lang="ts">
import DialogCard from '../../parts/DialogCard.vue'
import BringRoutes from './BringRoutes.vue'

const show = defineModel<boolean>('show', { required: true })
</script>

<template>
  <DialogCard v-model:show="show" title="Add routes" :width="620">
    <BringRoutes @done="show = false" />
  </DialogCard>
</template>
