<script setup lang="ts">
import { X } from '@lucide/vue'
import { NButton, useMessage } from 'naive-ui'
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, message, type Crossing, type Probe } from '../api/client'
import DialogCard from '../parts/DialogCard.vue'
import { parts } from '../parts/drill'
import { ago, exact, useNow } from '../parts/time'
import { running, target, version } from '../state/workspace'
import { isGap, kindName } from '../theme/kinds'
import ExchangeView from './ExchangeView.vue'
import LadderList from './LadderList.vue'
import PageSteps from './PageSteps.vue'
import QuotaSteps from './QuotaSteps.vue'

const props = defineProps<{
  route: string
  caller: string
  second: { route: string; caller: string } | null
  confirming: boolean
}>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const here = useRoute()
const toast = useMessage()
const now = useNow()

const x = ref<Crossing | null>(null)
const other = ref<Crossing | null>(null)
const error = ref('')
const pick = ref('')
const confirm = ref(false)
const busy = ref(false)
const box = ref<HTMLElement | null>(null)

async function load(route: string, caller: string): Promise<Crossing> {
  return ask(api.GET('/api/crossing', { params: { query: { route, caller, target: target.value || undefined } } }))
}
let turn = 0
watch(
  () => [props.route, props.caller, props.second?.route, props.second?.caller, version.value],
  async (n, o) => {
    const mine = ++turn
    try {
      const [a, b] = await Promise.all([
        load(props.route, props.caller),
        props.second ? load(props.second.route, props.second.caller) : null,
      ])
      if (mine !== turn) return
      x.value = a
      other.value = b
      error.value = ''
      if (!o || n[0] !== o[0] || n[1] !== o[1]) {
        pick.value = ''
        void nextTick(() => box.value?.scrollTo(0, 0))
      }
    } catch (e) {
      if (mine !== turn) return
      x.value = null
      error.value = message(e)
    }
  },
  { immediate: true },
)
watch(
  () => props.confirming,
  (a) => {
    if (a) confirm.value = true
  },
  { immediate: true },
)
watch(confirm, (c) => {
  if (!c && here.query.ask) void router.replace({ query: { ...here.query, ask: undefined } })
})

const probe = computed<Probe | undefined>(() => x.value?.probes.find((p) => p.id === pick.value) ?? x.value?.probes[0])
const kind = computed(() => probe.value?.kind ?? 'unprobed')
const soft = computed(() =>
  isGap(kind.value)
    ? `color-mix(in srgb, var(--${'SK'.includes(kind.value) ? 'X' : kind.value === 'R' ? 'W' : kind.value}) 7%, var(--sheet))`
    : 'var(--mill-soft)',
)
const ladder = computed(() => (probe.value?.ladder.length ? probe.value.ladder : (x.value?.ladder ?? [])))
const decider = computed(() => (probe.value?.ladder.length ? probe.value.decider : (x.value?.decider ?? 0)))
// Side by side stand the ladders of what was worst in each crossing.
function worstLadder(c: Crossing) {
  const p = c.probes[0]
  return p?.ladder.length ? { ladder: p.ladder, decider: p.decider } : { ladder: c.ladder, decider: c.decider }
}
const differs = computed(() => {
  if (!x.value || !other.value) return 0
  const b = worstLadder(other.value).ladder
  return worstLadder(x.value).ladder.find((r, i) => r.result !== b[i]?.result || r.text !== b[i]?.text)?.number ?? 0
})
const headline: Record<string, string> = { agrees: 'Agrees', unproven: 'Unproven', unprobed: 'Not probed yet' }
function title(k: string) {
  if (!isGap(k)) return headline[k] ?? k
  const n = kindName(k)
  return n.charAt(0).toUpperCase() + n.slice(1)
}

async function again() {
  confirm.value = false
  busy.value = true
  try {
    await ask(
      api.POST('/api/probe-again', {
        body: { target: target.value, crossings: [{ route: props.route, caller: props.caller }] },
      }),
    )
  } catch (e) {
    toast.error(message(e))
  } finally {
    busy.value = false
  }
}
async function curl() {
  if (!probe.value) return
  try {
    const r = await ask(
      api.GET('/api/curl', { params: { query: { probe: probe.value.id, target: target.value || undefined } } }),
    )
    await navigator.clipboard.writeText(r.text)
    toast.success('Copied. Secrets stand in it as environment variables.')
  } catch (e) {
    toast.error(message(e))
  }
}

const width = ref(Number(localStorage.getItem('millgate.drawer') ?? 440))
function drag(e: PointerEvent) {
  const from = e.clientX
  const was = width.value
  const move = (m: PointerEvent) => (width.value = Math.max(340, Math.min(900, was + from - m.clientX)))
  addEventListener('pointermove', move)
  addEventListener(
    'pointerup',
    () => {
      removeEventListener('pointermove', move)
      localStorage.setItem('millgate.drawer', String(width.value))
    },
    { once: true },
  )
}
</script>

<template>
  <aside class="drawer" :style="{ width: `${width}px`, '--soft': soft }" aria-label="Evidence">
    <span class="grip" aria-hidden="true" @pointerdown.prevent="drag"></span>
    <div ref="box" class="body" tabindex="-1">
      <div class="top">
        <div class="mono faint">{{ x?.label ?? caller }}</div>
        <button class="bare close" aria-label="Close the drawer" @click="emit('close')"><X :size="16" /></button>
      </div>
      <h1 class="mono route">{{ route }}</h1>
      <p v-if="error">{{ error }}</p>
      <template v-if="x">
        <div class="banner" :class="isGap(kind) ? `k-${kind}` : ''">
          <div>
            <b>{{ title(kind) }}</b>
            <span v-if="x.finding && probe?.id === x.probes[0]?.id"> · severity {{ x.finding.severity }}</span>
            <span v-if="isGap(kind)"> · {{ probe?.confidence }}</span>
            <span v-if="x.inferred"> · inferred from {{ x.inferred }}</span>
          </div>
          <div v-if="kind === 'unprobed'">Expected: {{ probe?.expected ?? x.expected }}.</div>
          <div v-else>{{ probe?.reason }}</div>
          <div v-for="g in (probe?.gaps ?? []).filter((g) => g.reason !== probe?.reason)" :key="g.reason" class="more">
            <span class="kind small" :class="`k-${g.kind}`">{{ g.kind }}</span> {{ g.reason }}
          </div>
        </div>

        <section v-if="other" class="two">
          <h2>Ladders side by side</h2>
          <div class="pair">
            <div>
              <div class="mono faint">{{ x.caller || 'nobody' }} · {{ x.route }}</div>
              <LadderList
                :ladder="worstLadder(x).ladder"
                :decider="worstLadder(x).decider"
                :file="x.file"
                :line="x.line"
                :mark="differs"
              />
            </div>
            <div>
              <div class="mono faint">{{ other.caller || 'nobody' }} · {{ other.route }}</div>
              <LadderList
                :ladder="worstLadder(other).ladder"
                :decider="worstLadder(other).decider"
                :file="other.file"
                :line="other.line"
                :mark="differs"
              />
            </div>
          </div>
          <p class="faint">{{ differs ? `They first differ at rung ${differs}.` : 'They do not differ.' }}</p>
        </section>
        <PageSteps v-else-if="probe?.page" :page="probe.page" :reason="probe.reason" :file="x.file" :line="x.line" />
        <QuotaSteps v-else-if="probe?.quota" :view="probe.quota" />
        <section v-else-if="!probe?.steps && !/^(origin|quota|counted):/.test(caller)">
          <h2>Ladder</h2>
          <LadderList
            v-if="ladder.length"
            :ladder="ladder"
            :decider="decider"
            :file="x.file"
            :line="x.line"
            :outcome="probe?.expected ?? x.expected"
          />
          <p v-else class="faint">
            The inventory does not have this, so the first rung decides: it must be hidden (404).
          </p>
        </section>

        <section v-if="x.probes.length > 1">
          <h2>Probes of this crossing</h2>
          <ul class="probes">
            <li v-for="p in x.probes" :key="p.id">
              <button
                class="bare"
                :class="{ on: p.id === probe?.id }"
                :aria-pressed="p.id === probe?.id"
                @click="pick = p.id"
              >
                <span v-if="isGap(p.kind)" class="kind small" :class="`k-${p.kind}`">{{ p.kind }}</span>
                <span v-else class="none mono" :title="p.kind">{{ { agrees: '·', unproven: '?' }[p.kind] ?? '' }}</span>
                <span>{{ p.label }}</span>
                <span class="faint">{{ p.isControl ? 'control, ' : '' }}{{ p.expected }}</span>
                <span class="mono st">{{ p.exchange?.status || '' }}</span>
              </button>
            </li>
          </ul>
        </section>

        <section v-if="probe?.steps?.length">
          <h2>Steps</h2>
          <details v-for="(s, i) in probe.steps" :key="i" class="step" :open="parts(s)">
            <summary>
              <span class="mono faint">{{ s.at.toFixed(2) }} s</span> {{ s.name }}
              <span class="mono" :class="{ bad: parts(s) }">{{ s.status || 'no answer' }}</span>
              <span class="faint">{{ s.expected ? `declared: ${s.expected}` : '' }}</span>
            </summary>
            <ExchangeView v-if="s.exchange" :exchange="s.exchange" />
          </details>
        </section>
        <section v-if="probe?.page?.preflight">
          <h2>Preflight</h2>
          <ExchangeView :exchange="probe.page.preflight" />
        </section>
        <section v-if="probe?.exchange">
          <h2 :title="exact(probe.exchange.at)">
            {{ probe.quota ? (probe.quota.status ? 'The first refusal' : 'The first call') : 'Exchange' }},
            {{ Math.max(1, Math.round(probe.exchange.ms)) }} ms, {{ ago(probe.exchange.at, now) }}
          </h2>
          <ExchangeView :exchange="probe.exchange" />
        </section>
        <section v-if="probe?.page?.refusal">
          <h2>The same without its credential</h2>
          <ExchangeView :exchange="probe.page.refusal" />
        </section>
        <section v-if="probe && (probe.control || probe.isControl || probe.readBack)">
          <h2>Control</h2>
          <p v-if="probe.isControl">This is the control of the route: a caller that must be admitted.</p>
          <p v-else-if="probe.control">
            {{ probe.control.caller }}, {{ probe.control.sameBody ? 'same request' : 'the same route' }}:
            <b :class="probe.control.status < 300 ? 'good' : 'bad'">{{ probe.control.status || 'no answer' }}</b>.
            {{
              probe.control.status >= 200 && probe.control.status < 300
                ? 'The request was a fair one.'
                : 'So a refusal proves nothing yet.'
            }}
          </p>
          <p v-if="probe.readBack">
            The record, read again by its owner: <b>{{ probe.readBack }}</b>.
          </p>
        </section>
        <section v-if="x.finding">
          <h2>What to do</h2>
          <p>{{ x.finding.advice }}</p>
          <p v-if="x.finding.refuted" class="faint"><b>What would refute it:</b> {{ x.finding.refuted }}</p>
          <p class="faint">
            {{ x.finding.owasp }} · CWE-{{ x.finding.cwe
            }}<template v-if="x.finding.standard"> · {{ x.finding.standard }}</template> · {{ x.finding.id }}
          </p>
        </section>
        <section v-if="x.left.length">
          <h2>Left out</h2>
          <p v-for="l in x.left" :key="l.what + l.why">{{ l.what }}: {{ l.why }}</p>
        </section>
        <section v-if="x.history.length > 1">
          <h2>Over sweeps</h2>
          <ul class="history">
            <li v-for="h in x.history.filter((h) => h.probe === probe?.id)" :key="h.sweep" :title="exact(h.at)">
              sweep {{ h.sweep }}, {{ ago(h.at, now) }}: <span class="mono">{{ h.status || 'no answer' }}</span>
            </li>
          </ul>
        </section>
      </template>
    </div>
    <div class="actions">
      <NButton
        size="small"
        type="primary"
        :loading="busy || (running?.partial ?? false)"
        :disabled="!!running"
        @click="x?.unsafe ? (confirm = true) : again()"
        >Probe again</NButton
      >
      <NButton size="small" :disabled="!probe" @click="curl">Copy as curl</NButton>
      <NButton
        size="small"
        :disabled="!x?.line"
        @click="router.push({ name: 'declaration', query: { line: x!.line, file: x!.file } })"
        >Edit the rule</NButton
      >
      <NButton
        v-if="caller && !caller.includes(':')"
        size="small"
        :title="`What a stolen token of ${caller} opens, until when, and what a logout does`"
        @click="router.push({ name: 'tokens', query: { identity: caller } })"
        >Its token</NButton
      >
    </div>
    <DialogCard v-model:show="confirm" title="Send unsafe requests again?" :width="460">
      <p>
        Some probes of <span class="mono">{{ route }}</span> can change something on <b>{{ target }}</b>. They are sent
        as the target's <span class="mono">unsafe</span> allows.
      </p>
      <div class="sure">
        <NButton type="primary" @click="again">Send</NButton>
        <NButton @click="confirm = false">Leave it</NButton>
      </div>
    </DialogCard>
  </aside>
</template>

<style scoped>
.drawer {
  position: relative;
  flex: none;
  display: flex;
  flex-direction: column;
  background: var(--sheet);
  border-left: 1px solid var(--line);
  box-shadow: var(--shadow);
  max-width: 60vw;
}
.step summary > span {
  margin-right: 6px;
}
.step summary {
  cursor: pointer;
  padding: 2px 0;
}
.grip {
  position: absolute;
  left: -3px;
  top: 0;
  bottom: 0;
  width: 7px;
  cursor: col-resize;
  z-index: 5;
}
.body {
  flex: 1;
  overflow: auto;
  padding: 14px 18px;
}
.top {
  display: flex;
  justify-content: space-between;
  gap: 8px;
}
.close {
  color: var(--faint);
  height: 18px;
}
.route {
  font: 650 14px/20px var(--mono);
  overflow-wrap: anywhere;
  margin: 2px 0 10px;
}
.banner {
  border-left: 4px solid var(--c, var(--mark));
  background: var(--soft);
  padding: 8px 10px;
  margin-bottom: 14px;
  border-radius: 0 4px 4px 0;
}
.banner b {
  color: var(--c, var(--ink));
  font-weight: 650;
}
.more {
  margin-top: 4px;
  font-size: 13px;
}
.small {
  width: 16px;
  height: 16px;
  font-size: 10px;
  vertical-align: 1px;
}
section {
  margin-bottom: 16px;
}
p {
  margin: 0 0 4px;
}
.probes {
  list-style: none;
  margin: 0 -10px;
  padding: 0;
}
.probes button {
  width: 100%;
  display: grid;
  grid-template-columns: 20px minmax(0, auto) 1fr 36px;
  gap: 6px;
  align-items: baseline;
  padding: 2px 10px;
  border-radius: 4px;
}
.probes button:hover,
.probes .on {
  background: var(--ground);
}
.probes .faint {
  font-size: 12px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.none {
  text-align: center;
  color: var(--mark);
}
.st {
  text-align: right;
}
.good {
  color: var(--ok);
}
.bad {
  color: var(--U);
}
.history {
  margin: 0;
  padding: 0;
  list-style: none;
}
.pair {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 28px;
  overflow-wrap: anywhere;
}
.pair :deep(li) {
  grid-template-columns: 16px minmax(0, 1fr);
}
.pair :deep(.text) {
  grid-column: 2;
}
.sure {
  display: flex;
  gap: 8px;
  margin-top: 12px;
}
.actions {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 8px;
  padding: 10px 18px;
  border-top: 1px solid var(--line);
}
</style>
