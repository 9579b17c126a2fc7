<script setup lang="ts">
import { NButton, NSelect } from 'naive-ui'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'
import { api, ask } from '../../api/client'
import { useAsk } from '../../composables/useAsk'
import { useWaive, waiverSays } from '../../composables/useWaive'
import { useSplitter } from '../../composables/useSplitter'
import { useKeys } from '../../keys/keys'
import CoverageBars from '../../parts/CoverageBars.vue'
import DialogCard from '../../parts/DialogCard.vue'
import FilterLine from '../../parts/FilterLine.vue'
import WaiveDialog from '../../parts/WaiveDialog.vue'
import { useSweep } from '../../stores/sweep'
import { useWorkspace } from '../../stores/workspace'
import { storeToRefs } from 'pinia'
import { all as crossings, checked } from '../../parts/coverage'
import { completions } from './filter'
import FindingPage from './FindingPage.vue'
import FindingsList from './FindingsList.vue'
import { counted, groupings, sortings } from './groups'
import { useFindings } from './useFindings'

// Findings to act on: found again by words, grouped by where somebody would mend them, each with its page.
const { target } = storeToRefs(useWorkspace())
const { last } = storeToRefs(useSweep())
const { run } = useAsk()
const { all, points, coverage, error, loaded, open, go, q, by, sort, wrong, gone, groups } = useFindings()
const numbers = computed(() => counted(all.value))
/** Of which kinds of checks least was done. */
const least = computed(() =>
  [...(coverage.value?.kinds ?? [])]
    .filter((s) => checked(s) < 100)
    .sort((a, b) => checked(a) - checked(b))
    .slice(0, 6),
)
const offered = (words: string) => completions(words, all.value)

const chosen = ref(new Set<string>())
function choose(id: string) {
  const next = new Set(chosen.value)
  if (!next.delete(id)) next.add(id)
  chosen.value = next
}

const list = ref<InstanceType<typeof FindingsList> | null>(null)
const words = ref<InstanceType<typeof FilterLine> | null>(null)
/** Those that something is to be done with: the chosen ones, or else the one in focus. */
const meant = () =>
  (chosen.value.size ? [...chosen.value] : [open.value || list.value?.current()?.id || '']).filter(Boolean)
const { meant: toWaive, asking: waiving, waive } = useWaive(() => (chosen.value = new Set()))
const waived = computed(() => {
  const one = all.value.find((f) => f.id === toWaive.value[0])
  return toWaive.value.length === 1 ? `${one?.title ?? ''}: ${one?.where ?? ''}` : `${toWaive.value.length} findings`
})
const asked = ref<string[]>([])
const asking = computed({ get: () => asked.value.length > 0, set: (v) => !v && (asked.value = []) })
async function again(probes: string[]) {
  asked.value = []
  await run(() => ask(api.POST('/api/probe-again', { body: { target: target.value, crossings: [], probes } })))
}
useKeys([
  { keys: 'j', says: 'next finding', run: () => list.value?.step(1) },
  { keys: 'k', says: 'finding before', run: () => list.value?.step(-1) },
  { keys: 'n', says: 'next finding that asks for somebody', run: () => list.value?.next(1) },
  { keys: 'N', says: 'the one before that', run: () => list.value?.next(-1) },
  { keys: '/', says: 'filter the findings', run: () => words.value?.focus() },
  { keys: 'Enter', says: 'open the finding', run: () => go({}, list.value?.current()?.id) },
  { keys: 'Escape', says: 'close the finding', run: () => go({}, '') },
  { keys: 'w', says: 'waive the chosen findings, or this one', run: () => (toWaive.value = meant()) },
  { keys: 'Space', says: 'choose a finding, to waive several at once', run: () => undefined },
])
const { width, drag } = useSplitter('millgate.finding', { from: 486, least: 380, most: 800, side: 'right' })
</script>

<template>
  <div class="findings">
    <header class="head">
      <div class="first">
        <h1>Findings</h1>
        <p class="faint">
          <template v-for="(n, i) in numbers" :key="n.q"
            ><template v-if="i"> · </template
            ><button class="bare" :class="{ on: q === n.q }" @click="q = q === n.q ? '' : n.q">
              {{ n.words }}
            </button></template
          >
          <template v-if="target">, against {{ target }}</template>
        </p>
        <div class="tools">
          <FilterLine
            ref="words"
            v-model="q"
            :complete="offered"
            hint="state:new,back severity:high …"
            :wrong="wrong"
            @leave="list?.focus()"
          />
          <NSelect
            v-model:value="by"
            size="small"
            class="pick"
            aria-label="Group by"
            :options="groupings.map((g) => ({ label: g.says, value: g.by }))"
          />
          <NSelect
            v-model:value="sort"
            size="small"
            class="pick"
            aria-label="Sort"
            :options="sortings.map((g) => ({ label: g.says, value: g.by }))"
          />
        </div>
        <p v-if="chosen.size" class="chosen">
          {{ chosen.size }} chosen
          <NButton size="tiny" @click="toWaive = meant()">Waive until…</NButton>
          <button class="bare link" @click="chosen = new Set()">choose none</button>
        </p>
      </div>
      <section v-if="coverage" class="checked" aria-label="What was checked">
        <p>
          <RouterLink to="/sweeps"
            >{{ checked(coverage.whole) }}% of {{ crossings(coverage.whole) }} crossings</RouterLink
          >
          were checked<template v-if="least.length">; least of</template>
        </p>
        <CoverageBars :list="least" :rows="3" />
      </section>
    </header>
    <p v-if="error" class="bad">{{ error }}</p>
    <div class="two">
      <div class="left">
        <p v-if="loaded && !all.length" class="empty">
          {{
            last
              ? 'No sweep of this target had a finding, as far as it was checked: how far that is stands above.'
              : 'Nothing was probed yet. Start a sweep from the strip below: what it finds stands here, and stays with what becomes of it.'
          }}
        </p>
        <p v-else-if="loaded && !groups.length" class="empty">
          No finding is like that. <button class="bare link" @click="q = ''">Show all</button>
        </p>
        <FindingsList
          v-else-if="loaded"
          ref="list"
          :groups="groups"
          :by="by"
          :points="points"
          :open="open"
          :chosen="chosen"
          :narrow="!!open"
          @open="(id) => go({}, id)"
          @choose="choose"
          @close="go({}, '')"
        />
        <p v-if="gone" class="gone faint">
          {{ gone }} gone for longer than the marks show.
          <button class="bare link" @click="q = `${q} state:mended,moved`.trim()">Show them</button>
        </p>
      </div>
      <template v-if="open">
        <span class="grip" aria-hidden="true" @pointerdown.prevent="drag"></span>
        <FindingPage
          :id="open"
          :style="{ width: `${width}px` }"
          @close="go({}, '')"
          @waive="(id) => (toWaive = [id])"
          @again="(probes, unsafe) => (unsafe ? (asked = probes) : again(probes))"
        />
      </template>
    </div>
    <WaiveDialog
      v-model:show="waiving"
      :title="toWaive.length > 1 ? 'Waive these findings' : 'Waive this finding'"
      :what="waived"
      :after="waiverSays"
      @waive="waive"
    />
    <DialogCard v-model:show="asking" title="Send unsafe requests again?" :width="460">
      <p>
        Some of its probes can change something on <b>{{ target }}</b>. They are sent as the target's
        <span class="mono">unsafe</span> allows.
      </p>
      <div class="sure">
        <NButton type="primary" @click="again(asked)">Send</NButton>
        <NButton @click="asked = []">Leave it</NButton>
      </div>
    </DialogCard>
  </div>
</template>

<style scoped>
.findings {
  height: 100%;
  display: flex;
  flex-direction: column;
}
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 32px;
  padding: 12px 16px;
  border-bottom: 1px solid var(--line);
}
.first {
  flex: 1 1 600px;
  min-width: 0;
}
.first p {
  margin: 0 0 8px;
}
.first p button:hover,
.first p .on {
  color: var(--mill);
  text-decoration: underline;
}
.tools {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
}
.tools > :first-child {
  min-width: 220px;
}
.pick {
  width: 182px;
}
.first .chosen {
  margin: 8px 0 0;
  display: flex;
  gap: 12px;
  align-items: center;
}
.checked {
  flex: 0 1 auto;
}
.checked p {
  margin: 0 0 4px;
  font-size: 12px;
}
.two {
  flex: 1;
  min-height: 0;
  display: flex;
  position: relative;
}
.left {
  flex: 1;
  min-width: 0;
  display: flex;
  flex-direction: column;
  background: var(--sheet);
}
.left > :first-child {
  flex: 1;
}
.gone {
  margin: 0;
  padding: 6px 16px;
  border-top: 1px solid var(--hair);
}
.empty {
  padding: 20px 16px;
  margin: 0;
}
.link {
  color: var(--mill);
}
.grip {
  width: 7px;
  margin: 0 -4px 0 -3px;
  cursor: col-resize;
  z-index: 5;
}
.sure {
  display: flex;
  gap: 8px;
}
.bad {
  color: var(--U);
  padding: 0 16px;
}
</style>
