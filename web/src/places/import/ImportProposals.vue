<script setup lang="ts">
import { NCheckbox } from 'naive-ui'
import { useImport } from './useImport'

// What the source says beside its routes, and what of it could not be read.
const { preview, proposals } = useImport()
</script>

<template>
  <template v-if="preview">
    <section v-if="preview.proposals.length" class="sheet props">
      <h2>What it says about who may call</h2>
      <p class="faint">
        The file's own claims. None is taken unless you choose it, and what is chosen is reviewed like any rule.
      </p>
      <div v-for="p in preview.proposals" :key="p.id" class="prop">
        <NCheckbox
          :checked="proposals.includes(p.id)"
          @update:checked="(v: boolean) => (proposals = v ? [...proposals, p.id] : proposals.filter((x) => x !== p.id))"
          >{{ p.title }}</NCheckbox
        >
        <div>
          <code class="mono">{{ p.text.length > 300 ? p.text.slice(0, 300) + ' …' : p.text }}</code>
          <div class="faint">{{ p.note }}</div>
        </div>
      </div>
    </section>

    <section v-if="preview.problems.length" class="sheet props" aria-label="What could not be read">
      <h2>{{ preview.problems.length }} could not be read; the rest is above</h2>
      <p v-for="(p, i) in preview.problems" :key="i">
        <span v-if="p.line" class="mono faint">line {{ p.line }}</span> {{ p.text }}
      </p>
    </section>
  </template>
</template>

<style scoped>
h2 {
  color: var(--ink);
}
p {
  margin: 0 0 8px;
}
.props {
  padding: 12px 16px;
  margin-bottom: 12px;
}
.prop {
  display: grid;
  grid-template-columns: 260px minmax(0, 1fr);
  gap: 2px 12px;
  padding: 4px 0;
  border-top: 1px solid var(--hair);
}
.prop code {
  overflow-wrap: anywhere;
}
</style>
