<script setup lang="ts">
import { computed } from 'vue'
import type { Shown } from '../stores/workspace'

// Routes of which nobody has decided who may call are not checked: that is said, with the way to what they do.
const props = defineProps<{ board: Shown }>()
const count = computed(() => props.board.rows.filter((r) => r.access[0]?.expect === 'undecided').length)
</script>

<template>
  <div v-if="count" class="note">
    Of {{ count === board.rows.length ? `all ${count}` : `${count} of ${board.rows.length}` }} routes nobody has decided
    who may call them, so that nothing is checked there.
    <RouterLink :to="{ name: 'observe' }">See what the service does today</RouterLink>
  </div>
</template>

<style scoped>
.note {
  padding: 6px 12px;
  background: var(--mill-soft);
  border-bottom: 1px solid var(--line);
}
</style>
