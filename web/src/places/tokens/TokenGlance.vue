<script setup lang="ts">
import type { TokenView } from '../../api/client'

// What somebody asks who finds a token, each answered in a line.
defineProps<{ facts: TokenView['facts'] }>()
</script>

<template>
  <dl class="glance">
    <template v-for="f in facts" :key="f.of">
      <dt class="faint">{{ f.of }}</dt>
      <dd :class="{ bad: f.bad }">{{ f.text }}</dd>
    </template>
  </dl>
</template>

<style scoped>
.glance {
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 3px 16px;
  margin: 0 0 10px;
}
dt {
  white-space: nowrap;
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.bad {
  border-left: 3px solid var(--P);
  padding-left: 8px;
  margin-left: -11px;
}
</style>
