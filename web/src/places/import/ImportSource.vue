<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { ref } from 'vue'
import { useImport } from './useImport'

// Where routes come from: a file, or what is written here.
const { pasted, paste, take } = useImport()
const over = ref(false)
const input = ref<HTMLInputElement | null>(null)
async function chosen(list: FileList | null | undefined) {
  await take(list)
  if (input.value) input.value.value = ''
}
</script>

<template>
  <div class="ways">
    <section
      class="drop sheet"
      :class="{ over }"
      @dragover.prevent="over = true"
      @dragleave="over = false"
      @drop.prevent="((over = false), chosen($event.dataTransfer?.files))"
    >
      <h2>A file</h2>
      <p>
        OpenAPI 3.0 or 3.1 with the files it refers to, a HAR archive from a browser, an access log, or a table. Drop it
        here.
      </p>
      <input
        ref="input"
        type="file"
        multiple
        class="visually-hidden"
        aria-label="Files to import"
        tabindex="-1"
        @change="chosen(($event.target as HTMLInputElement).files)"
      />
      <NButton type="primary" @click="input?.click()">Choose a file</NButton>
    </section>
    <section class="sheet by-hand">
      <h2>By hand, or pasted</h2>
      <NInput
        v-model:value="pasted"
        type="textarea"
        :rows="8"
        class="mono"
        placeholder="GET /v1/things  All things&#10;GET /v1/things/{thing_id}&#10;DELETE /v1/things/{thing_id}"
        :input-props="{ 'aria-label': 'Routes, one in a line, or a pasted text', spellcheck: false }"
      />
      <NButton :disabled="!pasted.trim()" @click="paste">Look at it</NButton>
    </section>
  </div>
</template>

<style scoped>
.ways {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 16px;
  max-width: 1000px;
}
.ways section {
  padding: 16px 18px;
}
.drop {
  border: 1.5px dashed var(--mark);
  display: grid;
  align-content: center;
  justify-items: start;
  padding-left: 40px !important;
}
.drop.over {
  border-color: var(--mill);
  background: var(--mill-soft);
}
.by-hand {
  display: grid;
  gap: 8px;
  justify-items: start;
}
h2 {
  color: var(--ink);
}
p {
  margin: 0 0 8px;
}
</style>
