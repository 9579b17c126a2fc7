<script setup lang="ts">
import { computed } from 'vue'
import type { Probe } from '../api/client'

// The rows of a list that should not be there, and those that should be.
const props = defineProps<{ rows: NonNullable<Probe['rows']> }>()
const most = 30
const parts = computed(() =>
  [
    { title: 'Rows that are not for it', rows: props.rows.filter((r) => !r.missing) },
    { title: 'Rows that it is not shown', rows: props.rows.filter((r) => r.missing) },
  ].filter((p) => p.rows.length),
)
</script>

<template>
  <section v-for="p in parts" :key="p.title">
    <h2>{{ p.title }}</h2>
    <table>
      <tbody>
        <tr v-for="r in p.rows.slice(0, most)" :key="r.id">
          <td class="mono">{{ r.id }}</td>
          <td>{{ r.owner ? `of ${r.owner}` : 'of nobody' }}</td>
          <td class="faint">{{ r.stands.join(', ') }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="p.rows.length > most" class="faint">and {{ p.rows.length - most }} more</p>
  </section>
</template>

<style scoped>
section {
  margin-bottom: 16px;
}
table {
  border-collapse: collapse;
}
td {
  padding: 2px 18px 2px 0;
  vertical-align: top;
}
p {
  margin: 2px 0 0;
}
</style>
