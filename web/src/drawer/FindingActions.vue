<script setup lang="ts">
import { NButton } from 'naive-ui'
import { useRouter } from 'vue-router'
import type { Finding } from '../api/client'
import { useWaive, waiverSays } from '../composables/useWaive'
import WaiveDialog from '../parts/WaiveDialog.vue'

// What can be done about the finding that a crossing is part of.
defineProps<{ finding: Finding }>()
const router = useRouter()
const { meant, asking, waive } = useWaive()
</script>

<template>
  <NButton
    size="small"
    title="All crossings with this cause, and what became of it over sweeps"
    @click="router.push({ name: 'findings', params: { id: finding.id } })"
    >Its finding</NButton
  >
  <NButton size="small" @click="meant = [finding.id]">Waive until…</NButton>
  <WaiveDialog
    v-model:show="asking"
    title="Waive this finding"
    :what="`${finding.title}: ${finding.where}`"
    :after="waiverSays"
    @waive="waive"
  />
</template>
