<script setup lang="ts">
import { NButton } from 'naive-ui'
import { storeToRefs } from 'pinia'
import { computed } from 'vue'
import { usePending } from '../stores/pending'

// A board without routes: those that come with what is pending, or the way to bring some in.
const { effect, pending } = storeToRefs(usePending())
const comes = computed(() => (pending.value ? (effect.value?.added ?? []) : []))
const most = 60
</script>

<template>
  <div class="none">
    <template v-if="comes.length">
      <p>
        <b>{{ comes.length === 1 ? 'One route comes' : `${comes.length} routes come` }} with what is pending.</b> Keep
        it below, and the board shows them.
      </p>
      <ul class="mono">
        <li v-for="r in comes.slice(0, most)" :key="r">{{ r }}</li>
        <li v-if="comes.length > most" class="faint">and {{ comes.length - most }} more</li>
      </ul>
    </template>
    <template v-else>
      <p>The declaration names no route yet. Rows are routes, columns are who calls.</p>
      <RouterLink v-slot="{ navigate }" :to="{ name: 'import' }" custom>
        <NButton type="primary" @click="navigate()">Bring in routes</NButton>
      </RouterLink>
    </template>
  </div>
</template>

<style scoped>
.none {
  display: grid;
  justify-items: center;
  align-content: start;
  height: 100%;
  overflow: auto;
  padding: 64px 24px 24px;
  gap: 8px;
}
ul {
  list-style: none;
  padding: 0;
  margin: 0;
  columns: 2;
  column-gap: 40px;
}
</style>
