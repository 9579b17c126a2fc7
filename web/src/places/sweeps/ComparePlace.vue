<script setup lang="ts">
import { NButton } from 'naive-ui'
import { computed, ref } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'
import { api, ask, type FindingChange, type SweepComparison } from '../../api/client'
import { useAnswer } from '../../composables/useAnswer'
import ReportDialog from '../../parts/ReportDialog.vue'
import { exact, span } from '../../parts/time'
import FlowPicture from './FlowPicture.vue'

// Two sweeps of a target side by side: what became of each finding.
const url = useRoute()
const router = useRouter()
const reporting = ref(false)
const { answer: c, error } = useAnswer(
  () => [url.params.from, url.params.to],
  () => {
    const query = { from: Number(url.params.from), to: Number(url.params.to) }
    return ask(api.GET('/api/compare', { params: { query } }))
  },
)
const tabs: { name: string; of: FindingChange[]; empty: string }[] = [
  { name: 'new or back', of: ['new', 'back'], empty: 'Nothing is new, and nothing came back.' },
  { name: 'mended', of: ['mended'], empty: 'Nothing was mended.' },
  { name: 'unchanged', of: ['unchanged'], empty: 'No finding is in both.' },
  { name: 'moved by the declaration', of: ['moved'], empty: 'No finding went because the declaration changed.' },
  { name: 'not checked', of: ['not checked'], empty: 'Each finding of the earlier one was checked again.' },
]
const tab = computed(() => tabs.find((t) => t.name === url.query.show) ?? tabs[0]!)
const of = (t: (typeof tabs)[number]) => (c.value?.items ?? []).filter((i) => t.of.includes(i.change))
const apart = computed(() =>
  c.value ? span(Math.max(0, (Date.parse(c.value.to.at) - Date.parse(c.value.from.at)) / 1000)) : '',
)
const pipeline = computed(() => {
  const n = c.value?.stops ?? 0
  const from = c.value?.from.sweep
  return n
    ? `a pipeline with baseline sweep ${from} stops here: ${n} of them ${n === 1 ? 'is' : 'are'} high at least`
    : `a pipeline with baseline sweep ${from} goes on: none of them is high at least`
})
/** What is said of a finding beside its severity. */
function says(i: SweepComparison['items'][number]): string {
  if (i.why) return i.why
  if (i.change === 'back') return `seen first in ${i.first}. ${i.reason}`
  return i.reason
}
</script>

<template>
  <div class="place">
    <p v-if="error" class="bad">{{ error }} <RouterLink :to="{ name: 'sweeps' }">All sweeps</RouterLink></p>
    <template v-if="c">
      <header>
        <h1>
          <RouterLink :to="{ name: 'sweeps', query: { sweep: c.from.sweep } }">Sweep {{ c.from.sweep }}</RouterLink>
          →
          <RouterLink :to="{ name: 'sweeps', query: { sweep: c.to.sweep } }">Sweep {{ c.to.sweep }}</RouterLink>
        </h1>
        <span class="faint" :title="`${exact(c.from.at)} and ${exact(c.to.at)}`">
          {{ c.target }} · {{ apart }} apart · revision {{ c.from.revision
          }}<template v-if="c.to.revision !== c.from.revision"> → {{ c.to.revision }}</template>
        </span>
        <NButton
          class="right"
          title="Show on the board only the crossings whose verdicts are others now"
          @click="router.push({ name: 'board', query: { q: `since:${c.from.sweep}` } })"
          >Only what changed, on the board</NButton
        >
        <NButton @click="reporting = true">Report…</NButton>
        <ReportDialog v-if="reporting" v-model:show="reporting" :sweep="c.to.sweep" />
      </header>
      <div class="sheet picture"><FlowPicture :comparison="c" /></div>
      <div class="sheet">
        <div class="tabs" role="tablist">
          <button
            v-for="t in tabs"
            :key="t.name"
            class="bare"
            role="tab"
            :aria-selected="t === tab"
            @click="router.replace({ query: { show: t.name } })"
          >
            <b>{{ of(t).length }}</b> {{ t.name }}
          </button>
          <span class="faint">{{ pipeline }}</span>
        </div>
        <p v-if="!of(tab).length" class="empty">{{ tab.empty }}</p>
        <table v-else class="plain">
          <tbody>
            <tr v-for="i in of(tab)" :key="i.id">
              <td>
                <span class="kind" :class="`k-${i.kind}`" :title="i.name">{{ i.kind }}</span>
              </td>
              <td>
                <RouterLink :to="{ name: 'findings', params: { id: i.id } }">{{ i.title }}</RouterLink>
              </td>
              <td class="mono where">{{ i.where }}</td>
              <td>{{ i.severity }}{{ i.waived ? ', waived' : '' }}</td>
              <td class="faint">{{ says(i) }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </div>
</template>

<style scoped>
header {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 16px;
  align-items: center;
  margin-bottom: 12px;
}
h1 {
  margin: 0;
}
h1 a {
  color: inherit;
  text-decoration: none;
}
h1 a:hover {
  color: var(--mill);
}
.right {
  margin-left: auto;
}
.picture {
  padding: 12px 8px;
  margin-bottom: 12px;
}
.tabs {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 22px;
  padding: 10px 14px 0;
  border-bottom: 1px solid var(--line);
}
.tabs button {
  color: var(--faint);
  padding-bottom: 6px;
  border-bottom: 2px solid transparent;
}
.tabs [aria-selected='true'] {
  color: var(--mill);
  border-color: var(--mill);
}
.tabs span {
  margin-left: auto;
}
.empty {
  padding: 12px 14px;
  margin: 0;
}
td:first-child {
  width: 20px;
}
td:nth-child(2) {
  min-width: 220px;
}
.where {
  min-width: 180px;
}
.bad {
  color: var(--U);
}
</style>
