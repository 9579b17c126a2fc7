<script setup lang="ts">
import { NCheckbox } from 'naive-ui'
import type { ExampleRead } from '../../api/client'
import { alike, varies } from './example'

/** What requests say: of each, what differs between them, and what is proposed. */
defineProps<{ read: ExampleRead; left: Set<string> }>()
defineEmits<{ toggle: [id: string, on: boolean] }>()
</script>

<template>
  <section aria-label="What they say" aria-live="polite">
    <h3>What they say</h3>
    <ul>
      <li v-for="g in alike(read.told)" :key="g.says + g.unread">
        <details v-if="g.list.length > 1">
          <summary>
            {{ g.list.length }} requests <span class="faint how">{{ g.says }}</span>
          </summary>
          <div v-for="(t, k) in g.list" :key="k" class="mono">{{ t.method }} {{ t.path }}</div>
        </details>
        <template v-else>
          <span class="mono">{{ g.list[0]!.method }} {{ g.list[0]!.path }}</span>
          <span class="faint how">{{ g.says }}</span>
        </template>
        <div v-for="u in g.unread" :key="u" class="unread">not understood: {{ u }}</div>
      </li>
    </ul>
    <div v-for="u in read.unread" :key="u" class="unread">not understood: {{ u }}</div>
    <template v-if="read.parts.some((p) => p.varies !== 'once')">
      <h3>What differs between them</h3>
      <table class="plain">
        <tbody>
          <tr v-for="p in read.parts" :key="p.in + p.name">
            <td class="mono">{{ p.name }}</td>
            <td class="faint">{{ p.in }}</td>
            <td>{{ varies(p) }}</td>
          </tr>
        </tbody>
      </table>
    </template>
    <template v-if="read.proposals.length">
      <h3>What they would write</h3>
      <div v-for="p in read.proposals" :key="p.id" class="proposal">
        <NCheckbox
          :checked="!left.has(p.id)"
          :aria-label="`Write ${p.id}`"
          @update:checked="(on: boolean) => $emit('toggle', p.id, on)"
        />
        <div>
          <div class="mono">{{ p.text }}</div>
          <div class="faint">{{ p.kind }}: {{ p.why }}</div>
        </div>
      </div>
    </template>
  </section>
</template>

<style scoped>
h3 {
  font-size: 14px;
  margin: 14px 0 4px;
}
ul {
  list-style: none;
  padding: 0;
  margin: 0;
}
li {
  margin-bottom: 4px;
  overflow-wrap: anywhere;
}
.unread {
  color: var(--L);
}
summary {
  cursor: pointer;
}
details .mono {
  padding-left: 16px;
}
.how {
  margin-left: 8px;
}
td {
  padding: 3px 10px 3px 0;
  vertical-align: top;
}
td:first-child {
  width: 150px;
  overflow-wrap: anywhere;
}
.proposal {
  display: grid;
  grid-template-columns: 24px minmax(0, 1fr);
  margin-bottom: 8px;
}
.proposal .mono {
  overflow-wrap: anywhere;
  padding: 4px 8px;
  border-radius: 4px;
  background: var(--mill-soft);
  color: var(--mill);
}
</style>
