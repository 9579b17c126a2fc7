<script setup lang="ts">
/** A line of a form: what it is, and the control that says it. */
defineProps<{ label: string }>()
</script>

<template>
  <label
    ><span>{{ label }}</span
    ><slot
  /></label>
</template>

<style scoped>
label {
  display: grid;
  grid-template-columns: 110px minmax(0, 1fr);
  gap: 10px;
  align-items: center;
  margin-bottom: 8px;
}
span {
  color: var(--faint);
}
</style>
