<script setup lang="ts">
import type { TokenView } from '../../api/client'

// What stands in a token, with what the standards say it means.
const props = defineProps<{ view: TokenView; lit: string }>()
const isLit = (part: string, name: string) => props.lit === `${part}/${name}`
const date = (s: string) => new Date(s).toLocaleString()
</script>

<template>
  <section class="sheet pad">
    <h2>What it says</h2>
    <template v-for="part in ['header', 'claims'] as const" :key="part">
      <h3 v-if="view[part].length">{{ part === 'header' ? 'Header' : 'Claims' }}</h3>
      <dl v-if="view[part].length">
        <div v-for="(p, i) in view[part]" :key="p.name + i" class="row" :class="{ lit: isLit(part, p.name) }">
          <dt class="mono">{{ p.name }}</dt>
          <dd>
            <span class="mono val">{{ p.value }}</span>
            <span v-if="p.date" class="faint"> {{ date(p.date) }}</span>
            <span v-if="p.means" class="faint means">{{ p.means }}</span>
          </dd>
        </div>
      </dl>
    </template>
    <p v-if="view.kind !== 'signed'" class="faint">There is nothing in it that can be read.</p>
  </section>
</template>

<style scoped>
.pad {
  padding: 12px 16px;
}
h2 {
  margin: 0 0 6px;
}
h3 {
  margin: 8px 0 2px;
  font-size: 13px;
  color: var(--faint);
}
dl {
  margin: 0;
}
.row {
  display: grid;
  grid-template-columns: 112px minmax(0, 1fr);
  gap: 8px;
  padding: 3px 6px;
  margin: 0 -6px;
  border-radius: 3px;
}
.row.lit {
  background: var(--mill-soft);
  outline: 1px solid var(--mill);
}
dd {
  margin: 0;
}
.val {
  overflow-wrap: anywhere;
}
.means {
  display: block;
  font-size: 12px;
}
</style>
