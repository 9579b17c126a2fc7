<script setup lang="ts">
import { X } from '@lucide/vue'
import { NButton, useMessage } from 'naive-ui'
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, message, type ChangedCrossing, type Crossing, type Kind, type Probe } from '../api/client'
import { useAsk } from '../composables/useAsk'
import { useSplitter } from '../composables/useSplitter'
import DialogCard from '../parts/DialogCard.vue'
import { isGap, kindColour, kindName } from '../theme/kinds'
import CrossingMore from './CrossingMore.vue'
import FindingActions from './FindingActions.vue'
import LadderList from './LadderList.vue'
import PageSteps from './PageSteps.vue'
import ListedRows from './ListedRows.vue'
import ProbeEvidence from './ProbeEvidence.vue'
import ProbeList from './ProbeList.vue'
import QuotaSteps from './QuotaSteps.vue'
import SeenOrder from './SeenOrder.vue'
import SinceThen from './SinceThen.vue'
import SendChanged from './SendChanged.vue'
import TwoLadders from './TwoLadders.vue'
import { useWorkspace } from '../stores/workspace'
import { useSweep } from '../stores/sweep'
import { storeToRefs } from 'pinia'

const { target, version } = storeToRefs(useWorkspace())
const { running } = storeToRefs(useSweep())

const props = defineProps<{
  route: string
  caller: string
  second: { route: string; caller: string } | null
  confirming: boolean
  since: number // the sweep that crossings are compared with; 0 without
  turned: ChangedCrossing[] // those that are otherwise since
  untold: string // why that cannot be told
}>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const here = useRoute()
const toast = useMessage()
const { busy, run } = useAsk()

const x = ref<Crossing | null>(null)
const other = ref<Crossing | null>(null)
const error = ref('')
const pick = ref('')
const confirm = ref(false)
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
  isGap(kind.value) ? `color-mix(in srgb, ${kindColour(kind.value)} 7%, var(--sheet))` : 'var(--mill-soft)',
)
const ladder = computed(() => (probe.value?.ladder.length ? probe.value.ladder : (x.value?.ladder ?? [])))
const decider = computed(() => (probe.value?.ladder.length ? probe.value.decider : (x.value?.decider ?? 0)))
const headline: Partial<Record<Kind, string>> = { agrees: 'Agrees', unproven: 'Unproven', unprobed: 'Not probed yet' }
function title(k: Kind) {
  if (!isGap(k)) return headline[k] ?? k
  const n = kindName(k)
  return n.charAt(0).toUpperCase() + n.slice(1)
}

async function again() {
  confirm.value = false
  await run(() =>
    ask(
      api.POST('/api/probe-again', {
        body: { target: target.value, crossings: [{ route: props.route, caller: props.caller }] },
      }),
    ),
  )
}
async function curl() {
  const id = probe.value?.id
  if (!id) return
  await run(async () => {
    const query = { probe: id, target: target.value || undefined }
    await navigator.clipboard.writeText((await ask(api.GET('/api/curl', { params: { query } }))).text)
    toast.success('Copied. Secrets stand in it as environment variables.')
  })
}

const { width, drag } = useSplitter('millgate.drawer', { from: 440, least: 340, most: 900, side: 'right' })
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

        <ListedRows v-if="probe?.rows" :rows="probe.rows" />
        <TwoLadders v-if="other" :x="x" :other="other" />
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

        <SinceThen v-if="since && !other" :x="x" :since="since" :turned="turned" :untold="untold" />
        <SeenOrder v-if="!other && x.order.length" :order="x.order" />

        <ProbeList v-if="x.probes.length > 1" :probes="x.probes" :picked="probe?.id" @pick="(id) => (pick = id)" />
        <ProbeEvidence v-if="probe" :probe="probe" :route="x.route" />
        <SendChanged v-if="probe?.exchange || probe?.steps?.length" :probe="probe" :caller="caller" />
        <CrossingMore :x="x" :probe="probe?.id" />
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
      <FindingActions v-if="x?.finding" :finding="x.finding" />
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
  position: relative; /* what is hidden from view inside it must scroll with it */
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
