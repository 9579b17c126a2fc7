<script setup lang="ts">
import { computed } from 'vue'
import { RouterLink } from 'vue-router'
import type { SweepResult } from '../../api/client'
import { exact, span } from '../../parts/time'

// What a sweep came to: its findings, and all that it could not say.
const props = defineProps<{ result: SweepResult }>()
const s = computed(() => props.result.sweep)
const took = computed(() =>
  s.value.endedAt ? span((Date.parse(s.value.endedAt) - Date.parse(s.value.startedAt)) / 1000) : 'still running',
)
const numbers = computed(() => [
  { n: String(s.value.done), of: s.value.done === s.value.planned ? 'probes' : `of ${s.value.planned} probes` },
  { n: took.value, of: s.value.endedAt ? 'long' : '' },
  { n: String(s.value.counts?.crossings['agrees'] ?? 0), of: 'crossings agree' },
  { n: String(s.value.counts?.crossings['unproven'] ?? 0), of: 'are unproven' },
])
/** What was left out for one reason is one line. */
const left = computed(() => {
  const by = new Map<string, { why: string; what: string[] }>()
  for (const l of props.result.left) {
    const g = by.get(l.why) ?? { why: l.why, what: [] }
    g.what.push(`${l.route}${l.caller ? `, ${l.caller}` : ''}, ${l.what}`)
    by.set(l.why, g)
  }
  return [...by.values()].sort((a, b) => b.what.length - a.what.length)
})
</script>

<template>
  <div class="sheet info">
    <h1>Sweep {{ s.id }}</h1>
    <p class="faint" :title="exact(s.startedAt)">
      against {{ s.target }}, with revision {{ s.revision }}<template v-if="s.note">; {{ s.note }}</template>
    </p>
    <dl class="numbers">
      <div v-for="x in numbers" :key="x.of">
        <dt>{{ x.n }}</dt>
        <dd class="faint">{{ x.of }}</dd>
      </div>
    </dl>
    <h2>{{ result.findings.length === 1 ? '1 finding' : `${result.findings.length} findings` }}</h2>
    <p v-if="!result.findings.length">The service did what the declaration says, as far as it was probed.</p>
    <ul v-else class="findings">
      <li v-for="f in result.findings.slice(0, 40)" :key="f.id">
        <span class="kind" :class="`k-${f.kind}`" :title="f.name">{{ f.kind }}</span>
        <RouterLink :to="{ name: 'findings', query: { id: f.id } }">{{ f.title }}</RouterLink>
        <span class="faint">{{ f.severity }}</span>
      </li>
      <li v-if="result.findings.length > 40" class="faint">and {{ result.findings.length - 40 }} more</li>
    </ul>
    <template v-if="result.unsent.length">
      <h2>Not sent</h2>
      <ul>
        <li v-for="u in result.unsent" :key="u.why">{{ u.probes }} probes: {{ u.why }}</li>
      </ul>
    </template>
    <h2>Left behind</h2>
    <p v-if="!result.made.length">Nothing: whatever the sweep made was removed.</p>
    <ul v-else>
      <li v-for="(m, i) in result.made" :key="i">
        <b>{{ m.what || 'something' }}</b> by <span class="mono">{{ m.route }}</span>: {{ m.why }}
      </li>
    </ul>
    <h2>Left out</h2>
    <p v-if="!left.length">Nothing.</p>
    <ul v-else>
      <li v-for="g in left" :key="g.why">
        <details v-if="g.what.length > 1">
          <summary>{{ g.what.length }}: {{ g.why }}</summary>
          <p v-for="w in g.what" :key="w" class="mono small">{{ w }}</p>
        </details>
        <template v-else
          ><span class="mono small">{{ g.what[0] }}</span
          >: {{ g.why }}</template
        >
      </li>
    </ul>
  </div>
</template>

<style scoped>
.info {
  padding: 14px 16px;
}
.info ul {
  margin: 0 0 12px;
  padding-left: 16px;
}
.numbers {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 28px;
  margin: 0 0 14px;
}
.numbers dt {
  font: 650 18px/22px var(--mono);
}
.numbers dd {
  margin: 0;
  font-size: 12px;
}
.info .findings {
  list-style: none;
  padding: 0;
}
.findings li {
  display: grid;
  grid-template-columns: 22px minmax(0, 1fr) auto;
  gap: 6px;
  align-items: baseline;
  padding: 1px 0;
}
.small {
  font-size: 12px;
}
summary {
  cursor: pointer;
}
</style>
