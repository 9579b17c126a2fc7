<script setup lang="ts">
import { computed, ref } from 'vue'
import { NButton, NSelect } from 'naive-ui'
import { RouterLink, useRouter } from 'vue-router'
import type { Sweep, SweepResult, Unseen } from '../../api/client'
import { checked } from '../../parts/coverage'
import { exact, span } from '../../parts/time'
import ReportDialog from '../../parts/ReportDialog.vue'
import CoverageSheet from './CoverageSheet.vue'
import ReasonList, { type Reason } from './ReasonList.vue'

// What a sweep came to: its findings, and all that it could not say.
const props = defineProps<{ result: SweepResult; earlier: Sweep[] }>()
const router = useRouter()
const reporting = ref(false)
const s = computed(() => props.result.sweep)
const much = computed(() => !props.result.coverage || checked(props.result.coverage.whole) >= 80)
const took = computed(() =>
  s.value.endedAt ? span((Date.parse(s.value.endedAt) - Date.parse(s.value.startedAt)) / 1000) : 'still running',
)
const numbers = computed(() => [
  { n: String(s.value.done), of: s.value.done === s.value.planned ? 'probes' : `of ${s.value.planned} probes` },
  { n: took.value, of: s.value.endedAt ? 'long' : '' },
  { n: String(s.value.counts?.crossings['agrees'] ?? 0), of: 'crossings agree' },
  { n: String(s.value.counts?.crossings['unproven'] ?? 0), of: 'are unproven' },
])
/** What has one reason is one line; those with most come first. */
function gathered(list: { why: string; what: string }[]) {
  const by = new Map<string, Reason>()
  for (const { why, what } of list) {
    const g = by.get(why) ?? { why, count: 0, what: [] }
    g.what.push(what)
    g.count++
    by.set(why, g)
  }
  return [...by.values()].sort((a, b) => b.count - a.count)
}
const left = computed(() =>
  gathered(
    props.result.left.map((l) => ({
      why: l.why,
      what: `${l.route}${l.caller ? ` as ${l.caller}` : ''}, ${l.what}`,
    })),
  ),
)
const made = computed(() =>
  gathered(props.result.made.map((m) => ({ why: m.why, what: `${m.what || 'something'} by ${m.route}` }))),
)
const reasons = (list: Unseen[]): Reason[] => list.map((u) => ({ why: u.why, count: u.probes, what: u.crossings }))
const unseen = computed(() =>
  [
    { title: 'Unproven', list: reasons(props.result.unproven) },
    { title: 'Not sent', list: reasons(props.result.unsent) },
  ].filter((x) => x.list.length),
)
</script>

<template>
  <div class="sheet info">
    <div class="top">
      <h1>Sweep {{ s.id }}</h1>
      <NButton v-if="s.endedAt && !s.partial" class="report" size="small" @click="reporting = true">Report…</NButton>
      <NSelect
        v-if="earlier.length"
        class="with"
        size="small"
        :value="null"
        placeholder="Compare with…"
        aria-label="Compare with"
        :options="earlier.map((e) => ({ label: `sweep ${e.id}, ${exact(e.startedAt)}`, value: e.id }))"
        @update:value="(id: number) => router.push({ name: 'compare', params: { from: id, to: s.id } })"
      />
    </div>
    <p class="faint" :title="exact(s.startedAt)">
      against {{ s.target }}, with revision {{ s.revision }}<template v-if="s.note">; {{ s.note }}</template>
    </p>
    <dl class="numbers">
      <div v-for="x in numbers" :key="x.of">
        <dt>{{ x.n }}</dt>
        <dd class="faint">{{ x.of }}</dd>
      </div>
    </dl>
    <CoverageSheet v-if="result.coverage && !s.partial" :coverage="result.coverage" />
    <h2>{{ result.findings.length === 1 ? '1 finding' : `${result.findings.length} findings` }}</h2>
    <p v-if="!result.findings.length">
      {{
        much
          ? 'The service did what the declaration says, as far as it was probed.'
          : 'Little can be said: much of what was planned is unproven or was not sent.'
      }}
    </p>
    <ul v-else class="findings">
      <li v-for="f in result.findings.slice(0, 40)" :key="f.id">
        <span class="kind" :class="`k-${f.kind}`" :title="f.name">{{ f.kind }}</span>
        <RouterLink :to="{ name: 'findings', params: { id: f.id } }">{{ f.title }}</RouterLink>
        <span class="faint">{{ f.severity }}</span>
      </li>
      <li v-if="result.findings.length > 40" class="faint">and {{ result.findings.length - 40 }} more</li>
    </ul>
    <p v-if="result.notFair">
      <RouterLink :to="{ name: 'board', query: { list: 'not-fair' } }"
        >{{ result.notFair === 1 ? '1 request is' : `${result.notFair} requests are` }} not fair yet</RouterLink
      >: their controls were not admitted, so that what waits for them shows nothing.
    </p>
    <template v-for="u in unseen" :key="u.title">
      <h2>{{ u.title }}</h2>
      <ReasonList :list="u.list" />
    </template>
    <h2>Left behind</h2>
    <p v-if="!result.made.length">Nothing: whatever the sweep made was removed.</p>
    <ReasonList v-else :list="made" />
    <h2>Left out</h2>
    <p v-if="!left.length">Nothing.</p>
    <ReasonList v-else :list="left" />
    <ReportDialog v-if="reporting" v-model:show="reporting" :sweep="s.id" />
    <h2>Never looked at</h2>
    <p class="faint">No sweep sees these, whatever is declared: {{ result.outside.join(', ') }}.</p>
  </div>
</template>

<style scoped>
.info {
  padding: 14px 16px;
}
.top {
  display: flex;
  gap: 12px;
  justify-content: space-between;
}
.report {
  margin-left: auto;
}
.with {
  width: 190px;
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
</style>
