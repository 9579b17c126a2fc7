<script setup lang="ts">
import { computed, ref } from 'vue'
import type { TokenView } from '../../api/client'

const props = defineProps<{ reach: TokenView['reach']; identity: string }>()
const open = computed(() => props.reach.filter((r) => r.admitted && !r.public))
const beyond = computed(() => (props.identity ? open.value.filter((r) => !r.granted) : []))
const short = computed(() => props.reach.filter((r) => !r.admitted && r.granted))
const everywhere = computed(() => props.reach.filter((r) => r.public).length)
const all = ref(false)
const shown = computed(() => {
  const rows = [...beyond.value, ...short.value, ...open.value.filter((r) => !beyond.value.includes(r))]
  return all.value ? rows : rows.slice(0, 24)
})
const total = computed(() => open.value.length + short.value.length)
</script>

<template>
  <section>
    <h2>What it opens</h2>
    <p>
      <b>{{ open.length }} routes</b> that need a token{{ identity ? ', ' : '.'
      }}<template v-if="identity"
        ><b :class="{ bad: beyond.length }">{{ beyond.length }}</b> of them not granted to {{ identity
        }}{{ short.length ? `; ${short.length} that are granted it does not open` : '' }}.</template
      >
      <span class="faint open">{{ everywhere }} more are open to anyone.</span>
    </p>
    <table v-if="total" class="plain">
      <thead>
        <tr>
          <th>Route</th>
          <th>With this token</th>
          <th>{{ identity ? `Granted to ${identity}` : 'Granted' }}</th>
          <th>By</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in shown" :key="r.route" :class="{ beyond: identity && r.admitted && !r.granted }">
          <td class="mono">
            <RouterLink :to="{ name: 'board', query: { sheet: r.route } }">{{ r.route }}</RouterLink>
          </td>
          <td>{{ r.outcome }}</td>
          <td>{{ !identity ? 'holder not known' : r.granted ? 'yes' : 'no' }}</td>
          <td class="faint">
            <RouterLink :title="r.why" :to="{ name: 'declaration', query: { line: r.line, file: r.file } }"
              >line {{ r.line }}</RouterLink
            >
          </td>
        </tr>
      </tbody>
    </table>
    <button v-if="!all && total > 24" class="bare more" @click="all = true">and {{ total - 24 }} more</button>
  </section>
</template>

<style scoped>
h2 {
  margin: 0 0 4px;
}
p {
  margin: 0 0 8px;
}
.bad,
.beyond td {
  color: var(--U);
}
td {
  padding: 4px 12px !important;
}
.open {
  margin-left: 4px;
}
td:last-child {
  white-space: nowrap;
}
.more {
  color: var(--mill);
  padding: 6px 12px;
}
</style>
