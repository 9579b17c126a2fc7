<script lang="ts">
/** What has one reason in common; of many, `what` names the first. */
export interface Reason {
  why: string
  count: number
  what: string[]
}
</script>

<script setup lang="ts">
// What a sweep cannot speak of, by its reasons: each opens to what it holds for.
defineProps<{ list: Reason[] }>()
</script>

<template>
  <ul class="reasons">
    <li v-for="g in list" :key="g.why">
      <details v-if="g.count > 1">
        <summary>{{ g.count }}: {{ g.why }}</summary>
        <p v-for="(w, i) in g.what" :key="i" class="mono small">{{ w }}</p>
        <p v-if="g.count > g.what.length" class="faint small">and {{ g.count - g.what.length }} more</p>
      </details>
      <template v-else
        ><span class="mono small">{{ g.what[0] }}</span
        >: {{ g.why }}</template
      >
    </li>
  </ul>
</template>

<style scoped>
.reasons {
  margin: 0 0 12px;
  padding-left: 16px;
}
.small {
  font-size: 12px;
}
summary {
  cursor: pointer;
}
</style>
