<script setup lang="ts">
import type { Rung } from '../api/client'

defineProps<{ ladder: Rung[]; decider: number; file: string; line: number; mark?: number; outcome?: string }>()
</script>

<template>
  <ol class="ladder">
    <li
      v-for="r in ladder"
      :key="r.number"
      :class="[r.result.replace(' ', '-'), { decides: r.number === decider, differs: r.number === mark }]"
    >
      <span class="n mono">{{ r.number }}</span>
      <span class="name">{{ r.name }}</span>
      <span class="text">
        <span class="visually-hidden">{{ r.result }}: </span>{{ r.text
        }}<template v-if="r.number === decider && outcome">: {{ outcome }}</template>
        <RouterLink
          v-if="line && (r.number === decider || (!decider && r.number === 4))"
          :to="{ name: 'declaration', query: { line, file } }"
          class="where"
          >{{ file }}, line {{ line }}</RouterLink
        >
      </span>
    </li>
  </ol>
</template>

<style scoped>
.ladder {
  list-style: none;
  margin: 0 -10px;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: 20px 118px 1fr;
  padding: 2px 10px;
}
.n,
.name {
  color: var(--faint);
}
.passed .name,
.depends .name {
  color: var(--ink);
}
.not-reached {
  color: var(--faint);
}
.decides {
  background: var(--soft, var(--mill-soft));
  font-weight: 600;
  padding-top: 5px;
  padding-bottom: 5px;
}
.decides .name {
  color: var(--ink);
}
.differs {
  box-shadow: inset 3px 0 0 var(--mill);
}
.where {
  display: block;
  font-weight: 400;
}
.not-reached .where {
  display: none;
}
</style>
