<script setup lang="ts">
import { NButton, NInput, NSelect } from 'naive-ui'
import { kinds, useImport } from './useImport'

// How the source is read.
const { again, error, files, host, hosts, kind, look, mapping, origin, origins, preview } = useImport()
</script>

<template>
  <div class="bar">
    <b>{{ files[0]!.name || 'Pasted text' }}</b>
    <span v-if="files.length > 1" class="faint">with {{ files.length - 1 }} more</span>
    <label
      >read as
      <NSelect
        v-model:value="kind"
        size="small"
        class="sel"
        :options="kinds"
        aria-label="What it is"
        :consistent-menu-width="false"
    /></label>
    <label v-if="hosts.length > 1"
      >served by
      <NSelect
        v-model:value="host"
        size="small"
        class="sel"
        :options="hosts"
        aria-label="Which host"
        :consistent-menu-width="false"
    /></label>
    <label v-if="origins.length > 1"
      >requests to
      <NSelect
        :value="origin || (preview?.origin ?? '')"
        size="small"
        class="sel"
        :options="origins"
        aria-label="Which origin"
        :consistent-menu-width="false"
        @update:value="(v: string) => ((origin = v), look())"
    /></label>
    <NButton size="small" class="end" @click="again">Take another</NButton>
  </div>
  <div v-if="preview?.kind === 'log' || (error && kind === 'log')" class="mapping">
    <span class="faint">Fields of JSON lines, where they are not found out:</span>
    <NInput
      v-for="f in ['method', 'path', 'status', 'host'] as const"
      :key="f"
      v-model:value="mapping[f]"
      size="small"
      :placeholder="f"
      :input-props="{ 'aria-label': `Field with the ${f}` }"
      @change="look"
    />
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 20px;
  align-items: center;
  margin-bottom: 10px;
}
.bar label {
  display: flex;
  gap: 8px;
  align-items: center;
  color: var(--faint);
  white-space: nowrap;
}
.sel {
  min-width: 190px;
}
.end {
  margin-left: auto;
  display: flex;
  gap: 12px;
}
.mapping {
  display: grid;
  grid-template-columns: auto repeat(4, 130px);
  gap: 8px;
  align-items: center;
  margin-bottom: 10px;
}
</style>
