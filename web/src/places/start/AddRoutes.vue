<script setup lang="ts">
import { NModal } from 'naive-ui'
import BringRoutes from './BringRoutes.vue'

const show = defineModel<boolean>('show', { required: true })
</script>

<template>
  <NModal v-model:show="show" preset="card" title="Add routes" style="width: 620px">
    <BringRoutes @done="show = false" />
  </NModal>
</template>
