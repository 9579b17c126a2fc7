<script setup lang="ts">
import { NSelect } from 'naive-ui'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type Quota, type QuotaFor, type Quotas } from '../../api/client'
import { useBeside } from '../../composables/useBeside'
import { span } from '../../parts/time'
import QuotaForm from './QuotaForm.vue'
import QuotaSimulation from './QuotaSimulation.vue'
import { useWorkspace } from '../../stores/workspace'
import { storeToRefs } from 'pinia'

const { version } = storeToRefs(useWorkspace())

const url = useRoute()
const router = useRouter()
const tries = ref(0)
const { declared, data, draft, text, error } = useBeside<Quotas>(
  (text) => ask(api.POST('/api/quotas/look', { body: { text } })),
  [version],
)

interface Line {
  q: Quota
  f: QuotaFor
  first: boolean
}
const lines = computed<Line[]>(() =>
  (data.value?.quotas ?? []).flatMap((q) => q.for.map((f, i) => ({ q, f, first: i === 0 }))),
)
const chosen = computed(() => {
  const name = String(url.query.quota ?? '')
  const who = String(url.query.who ?? '')
  return lines.value.find((l) => l.q.name === name && l.f.who === who) ?? lines.value[0]
})
function choose(l: Line) {
  void router.replace({ query: { quota: l.q.name, who: l.f.who || undefined } })
}
/** The chosen quota as it is declared: what the form begins with. */
const edited = computed(() => declared.value?.quotas.find((q) => q.name === chosen.value?.q.name))
const choices = computed(() =>
  (data.value?.attempts ?? []).map((a, i) => ({ label: `${a.n.toLocaleString()} ${a.why}`, value: i })),
)
function calls(n: number): string {
  return n < 0 ? 'no limit' : n.toLocaleString()
}
function time(s: number | undefined): string {
  if (s === undefined || s < 0) return 'never'
  if (s < 0.001) return 'at once'
  return s > 730 * 86400 ? `${Math.round(s / 86400 / 365).toLocaleString()} years` : span(s)
}
function spanName(s: number): string {
  return s === 86400 ? '1 day' : s === 3600 ? '1 h' : s === 60 ? '1 min' : `${s} s`
}
function over(l: Line): string {
  const m = l.f.members[0]
  if (!m || m.window <= 0 || m.ceiling < 0) return ''
  return `${m.ceiling} in ${span(m.window)} at the worst moment`
}
</script>

<template>
  <div class="place">
    <h1>Quotas</h1>
    <p class="faint lead">
      What the declared quotas let through in the worst case: over every pattern of calls, the edges of windows among
      them. Choose one to see how a pattern fares.
    </p>
    <p v-if="error" role="alert">{{ error }}</p>
    <p v-if="data && !data.quotas.length">
      The declaration has no quotas, so nothing says how often anybody may call.
      <RouterLink to="/declaration">Write one</RouterLink> under <span class="mono">quotas</span>, for example
      <span class="mono">login: { at: POST /session, allow: 8 per 5m, counted_by: address }</span>.
    </p>
    <template v-else-if="data">
      <div class="scroll">
        <table>
          <thead>
            <tr>
              <th scope="col">Quota</th>
              <th scope="col">Counts by</th>
              <th scope="col">Allows</th>
              <th scope="col" class="num" title="The most calls that get through in a moment">At once</th>
              <th v-for="s in data.spans.slice(1)" :key="s" scope="col" class="num">In {{ spanName(s) }}</th>
              <th scope="col" class="num" title="Through three nodes that count alone, in the first window">
                3 nodes alone
              </th>
              <th scope="col" class="num" title="With one restart that forgets all counts, in the first window">
                A restart
              </th>
              <th scope="col" class="num">Waits</th>
              <th scope="col" class="num tries">
                <NSelect
                  v-model:value="tries"
                  size="tiny"
                  :options="choices"
                  aria-label="How long so many calls take"
                  :consistent-menu-width="false"
                />
              </th>
            </tr>
          </thead>
          <tbody>
            <tr
              v-for="l in lines"
              :key="l.q.name + l.f.who"
              :class="{ on: l === chosen }"
              tabindex="0"
              :aria-selected="l === chosen"
              @click="choose(l)"
              @keydown.enter="choose(l)"
              @keydown.space.prevent="choose(l)"
            >
              <th scope="row">
                <template v-if="l.first"
                  ><b>{{ l.q.name }}</b>
                  <RouterLink
                    class="where"
                    :to="{ name: 'declaration', query: { line: l.q.line, file: l.q.file } }"
                    :title="l.q.routes.join('\n')"
                    @click.stop
                    >{{ l.q.routes.length }} {{ l.q.routes.length === 1 ? 'route' : 'routes' }}, line
                    {{ l.q.line }}</RouterLink
                  ></template
                ><span v-else class="faint">for {{ l.f.who }}</span>
              </th>
              <td>{{ l.first ? l.q.countedBy : '' }}</td>
              <td>
                <span v-for="m in l.f.members" :key="m.amount" class="amount">
                  <span class="mono" :class="{ idle: m.neverBinds }">{{ m.amount }}</span>
                  <small v-if="m.neverBinds" class="faint"> never binds</small>
                </span>
                <small class="faint">{{ l.first ? l.q.model : '' }}</small>
              </td>
              <td class="num" :title="over(l)">{{ calls(l.f.moment) }}</td>
              <td v-for="(n, i) in l.f.ceilings.slice(1)" :key="i" class="num">{{ calls(n) }}</td>
              <td class="num">{{ calls(l.f.nodes) }}</td>
              <td class="num">{{ calls(l.f.restart) }}</td>
              <td class="num">{{ l.f.wait < 0 ? 'as long as calls take' : l.f.wait === 0 ? 'no' : time(l.f.wait) }}</td>
              <td class="num">{{ time(l.f.attempts[tries]) }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <p v-if="data.without.length" class="faint without" :title="data.without.join('\n')">
        {{ data.without.length }} {{ data.without.length === 1 ? 'route has' : 'routes have' }} no quota:
        <span class="mono">{{ data.without.slice(0, 4).join(', ') }}{{ data.without.length > 4 ? ' …' : '' }}</span>
      </p>
      <QuotaForm v-if="edited" :key="edited.name" v-model:draft="draft" :quota="edited" />
      <QuotaSimulation v-if="chosen" :quota="chosen.q" :amounts="chosen.f" :text="text" />
    </template>
  </div>
</template>

<style scoped>
.lead {
  margin: 0 0 10px;
}
.scroll {
  overflow-x: auto;
  background: var(--sheet);
  border: 1px solid var(--line);
  border-radius: 4px;
}
table {
  border-collapse: collapse;
  width: 100%;
}
th,
td {
  text-align: left;
  font-weight: 400;
  padding: 4px 10px;
  border-bottom: 1px solid var(--hair);
  vertical-align: top;
}
thead th {
  color: var(--faint);
  font-size: 12px;
  white-space: nowrap;
  vertical-align: bottom;
}
tbody tr {
  cursor: pointer;
}
tbody tr:last-child > * {
  border-bottom: 0;
}
tbody tr:hover {
  background: color-mix(in srgb, var(--mill-soft) 45%, var(--sheet));
}
.on {
  background: var(--mill-soft);
}
.num {
  text-align: right;
  font-variant-numeric: tabular-nums;
  white-space: nowrap;
}
.tries {
  width: 190px;
}
.where {
  display: block;
  font-size: 12px;
}
.amount {
  display: block;
  white-space: nowrap;
}
.idle {
  text-decoration: line-through;
}
.without {
  margin: 8px 0 0;
}
</style>
