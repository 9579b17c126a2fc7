<script setup lang="ts">
import { NButton } from 'naive-ui'
import { useImport } from './useImport'

// What is unclear of paths: asked once for all that are alike.
const { answer, busy, questions, said } = useImport()
</script>

<template>
  <ul v-if="questions.length || Object.keys(said).length" class="questions" aria-label="What is unclear">
    <li v-for="q in questions" :key="q.under">
      <span>
        Behind <b class="mono">{{ q.under }}</b>: {{ q.note }}
        <span class="faint" :title="q.keys.join('\n')"
          >{{ q.keys.length }} {{ q.keys.length === 1 ? 'route' : 'routes' }}</span
        >
      </span>
      <NButton
        size="tiny"
        :disabled="busy"
        title="They become one route with a parameter"
        @click="answer(q.under, true)"
        >Values</NButton
      >
      <NButton size="tiny" :disabled="busy" title="Each is a route of its own" @click="answer(q.under, false)"
        >Names</NButton
      >
    </li>
    <li v-for="(values, under) in said" :key="under" class="faint">
      <span
        >Behind <span class="mono">{{ under }}</span> stand {{ values ? 'values' : 'names' }}</span
      >
      <button class="bare link" :disabled="busy" @click="answer(String(under))">ask again</button>
    </li>
  </ul>
</template>

<style scoped>
.questions {
  list-style: none;
  margin: 0 0 10px;
  padding: 6px 14px;
  border-left: 3px solid var(--W);
  background: var(--sheet);
}
li {
  display: flex;
  align-items: baseline;
  gap: 8px;
  padding: 3px 0;
}
li > span:first-child {
  margin-right: auto;
  overflow-wrap: anywhere;
}
.link {
  color: var(--mill);
}
</style>
