<script setup lang="ts">
import { X } from '@lucide/vue'
import { NButton, NDropdown, useMessage } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { RouterLink, useRouter } from 'vue-router'
import { api, ask, type CrossingSeen } from '../../api/client'
import { useAnswer } from '../../composables/useAnswer'
import { useAsk } from '../../composables/useAsk'
import LadderList from '../../drawer/LadderList.vue'
import PageSteps from '../../drawer/PageSteps.vue'
import ProbeEvidence from '../../drawer/ProbeEvidence.vue'
import QuotaSteps from '../../drawer/QuotaSteps.vue'
import { useSweep } from '../../stores/sweep'
import { useWorkspace } from '../../stores/workspace'
import { storeToRefs } from 'pinia'
import { asks } from './filter'
import FindingAbout from './FindingAbout.vue'
import FindingCrossings from './FindingCrossings.vue'
import { placeOf, stateWords } from './groups'
import HistoryLine from './HistoryLine.vue'

// All that is known of a finding, and what can be done about it.
const props = defineProps<{ id: string }>()
const emit = defineEmits<{ close: []; waive: [id: string]; again: [probes: string[], unsafe: boolean] }>()
const { target, version } = storeToRefs(useWorkspace())
const { running } = storeToRefs(useSweep())
const router = useRouter()
const toast = useMessage()
const { busy, run } = useAsk()

const query = () => ({ target: target.value || undefined })
const { answer: d, error } = useAnswer(
  () => [props.id, version.value],
  () => ask(api.GET('/api/findings/{id}', { params: { path: { id: props.id }, query: query() } })),
)
const pick = ref('')
const box = ref<HTMLElement | null>(null)
watch(
  () => props.id,
  () => (pick.value = ''),
)
watch(
  () => d.value?.finding.id,
  (id) => id && box.value?.scrollTo(0, 0),
)
const shown = computed<CrossingSeen | undefined>(
  () => d.value?.crossings.find((c) => c.probe === pick.value) ?? d.value?.crossings[0],
)
// What a crossing was about can be gone; the finding says so.
const { answer: x } = useAnswer(
  () => [shown.value?.probe, version.value],
  () => {
    const c = shown.value
    if (!c) return undefined
    return ask(api.GET('/api/crossing', { params: { query: { route: c.route, caller: c.column, ...query() } } }))
  },
)
const probe = computed(() => x.value?.probes.find((p) => p.id === shown.value?.probe))
const f = computed(() => d.value?.finding)
const line = computed(() => d.value?.line)
const why = computed(() => d.value?.whys[d.value.whys.length - 1])
const copies = [
  { label: 'Markdown, for a ticket', key: 'markdown' },
  { label: 'curl, the request', key: 'curl' },
  { label: 'HAR, the exchanges', key: 'har' },
  { label: 'Witness, a script that tells whether it is still there', key: 'witness' },
]
async function copy(form: string) {
  await run(async () => {
    const r = await ask(
      api.GET('/api/findings/{id}/copy', {
        params: { path: { id: props.id }, query: { ...query(), as: form as never } },
      }),
    )
    await navigator.clipboard.writeText(r.text)
    toast.success(r.note)
  })
}
</script>

<template>
  <aside class="page" aria-label="Finding">
    <div ref="box" class="body" tabindex="-1">
      <div class="top">
        <div class="mono faint">
          {{ id }}<template v-if="line"> · {{ placeOf(line) }}</template>
        </div>
        <button class="bare close" aria-label="Close the finding" @click="emit('close')"><X :size="16" /></button>
      </div>
      <p v-if="error">{{ error }}</p>
      <template v-if="d && f && line">
        <h1>
          <span class="kind" :class="`k-${f.kind}`" :title="f.name">{{ f.kind }}</span> {{ f.title }}
        </h1>
        <p class="is">
          <b>{{ f.severity }}</b> · {{ f.confidence }} ·
          <b :class="{ mended: line.state === 'mended' }">{{ stateWords(line) }}</b>
        </p>
        <div class="banner" :class="asks(line.state) ? `k-${f.kind}` : 'calm'">
          <p>{{ f.reason }}</p>
          <p v-if="why && line.state !== 'waived'" class="faint">
            {{ asks(line.state) ? 'Open again' : line.state }}: {{ why }}.
          </p>
        </div>
        <div v-if="line.waived" class="banner calm">
          <p>
            <b>Waived until {{ line.waived.until }}</b
            >{{ line.waived.by ? ` by ${line.waived.by}` : '' }}: {{ line.waived.reason }}
            <RouterLink v-if="line.waived.line" :to="{ name: 'declaration', query: { line: line.waived.line } }"
              >line {{ line.waived.line }}</RouterLink
            >
          </p>
        </div>
        <FindingAbout :detail="d" :control="probe?.control" />
        <h2>{{ d.points.length > 1 ? `Sweeps ${d.points[0]!.sweep} to ${line.checked}` : `Sweep ${line.since}` }}</h2>
        <HistoryLine :detail="d" />
        <p class="faint">
          First seen in {{ line.since }}, last seen in {{ line.seen }}, last checked in {{ line.checked }}.
          <template v-for="t in d.turns" :key="t.sweep">
            In {{ t.sweep }}
            <span v-if="t.came.length" :title="t.came.join('\n')">{{ t.came.length }} crossings came</span
            ><template v-if="t.came.length && t.went.length">, </template
            ><span v-if="t.went.length" :title="t.went.join('\n')">{{ t.went.length }} went</span>.
          </template>
        </p>
        <FindingCrossings :list="d.crossings" :picked="shown?.probe" @pick="(id) => (pick = id)" />
        <template v-if="x && shown && probe">
          <h2>
            Evidence<template v-if="d.crossings.length > 1"
              >: <span class="mono">{{ shown.route }}</span> as {{ shown.who }}</template
            >
          </h2>
          <p v-if="probe.reason !== f.reason">{{ probe.reason }}</p>
          <PageSteps v-if="probe.page" :page="probe.page" :reason="probe.reason" :file="x.file" :line="x.line" />
          <QuotaSteps v-else-if="probe.quota" :view="probe.quota" />
          <LadderList
            v-else-if="probe.ladder.length"
            :ladder="probe.ladder"
            :decider="probe.decider"
            :file="x.file"
            :line="x.line"
            :outcome="probe.expected"
          />
          <ProbeEvidence :probe="probe" :route="x.route" class="evidence" />
        </template>
      </template>
    </div>
    <div v-if="d && line" class="actions">
      <NButton
        size="small"
        type="primary"
        :loading="running?.partial ?? false"
        :disabled="!!running"
        title="Send exactly its probes again, with their controls (p)"
        @click="
          emit(
            'again',
            d.crossings.map((c) => c.probe),
            x?.unsafe ?? false,
          )
        "
        >Probe again</NButton
      >
      <NButton size="small" :disabled="line.state === 'mended'" @click="emit('waive', id)">{{
        line.waived ? 'Waive anew…' : 'Waive until…'
      }}</NButton>
      <NDropdown trigger="click" :options="copies" @select="copy">
        <NButton size="small" :loading="busy">Copy as…</NButton>
      </NDropdown>
      <NButton
        size="small"
        :disabled="!shown"
        @click="
          router.push({
            name: 'board',
            query: {
              lens: shown!.lens === 'access' ? undefined : shown!.lens,
              route: shown!.route,
              caller: shown!.column || undefined,
            },
          })
        "
        >On the board</NButton
      >
    </div>
  </aside>
</template>

<style scoped>
.page {
  display: flex;
  flex-direction: column;
  min-width: 0;
  height: 100%;
  background: var(--sheet);
  border-left: 1px solid var(--line);
}
.body {
  position: relative;
  flex: 1;
  overflow: auto;
  padding: 12px 20px 20px;
}
.top {
  display: flex;
  justify-content: space-between;
  gap: 12px;
}
.close {
  color: var(--faint);
}
h1 .kind {
  vertical-align: -4px;
}
p {
  margin: 0 0 8px;
}
.banner {
  background: color-mix(in srgb, var(--c) 7%, var(--sheet));
  border-left: 3px solid var(--c);
  padding: 8px 12px;
  margin: 0 0 12px;
}
.banner.calm {
  --c: var(--mark);
  background: var(--ground);
}
.banner p:last-child {
  margin: 0;
}
.mended {
  color: var(--ok);
}
.evidence {
  margin-top: 12px;
}
.actions {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  padding: 10px 20px;
  border-top: 1px solid var(--line);
}
</style>
