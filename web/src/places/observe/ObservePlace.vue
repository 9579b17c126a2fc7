<script setup lang="ts">
import { NButton, NProgress } from 'naive-ui'
import { storeToRefs } from 'pinia'
import { computed, ref, watch } from 'vue'
import { RouterLink } from 'vue-router'
import { api, ask, type ObservedGroup } from '../../api/client'
import RuleDialog from '../../board/RuleDialog.vue'
import { useAsk } from '../../composables/useAsk'
import { useKeys } from '../../keys/keys'
import { ago, exact, useNow } from '../../parts/time'
import { useObserving } from '../../stores/observing'
import { usePending } from '../../stores/pending'
import { useWorkspace } from '../../stores/workspace'
import GroupRow from './GroupRow.vue'
import NotAsked from './NotAsked.vue'
import WriteGuesses from './WriteGuesses.vue'
import { columns } from './columns'
import { glossary } from '../../parts/glossary'
import { vSays } from '../../parts/says'

const { board, target } = storeToRefs(useWorkspace())
const pending = usePending()
const { text, pending: changed } = storeToRefs(pending)
const observing = useObserving()
const { seen, progress, error } = storeToRefs(observing)
const now = useNow()
const { busy, run } = useAsk()

const also = ref<string[]>([])
const ruled = ref<string[]>([])
const ruling = ref(false)
const open = ref('')

watch([target, text], () => target.value && void observing.look(target.value, changed.value ? text.value : ''), {
  immediate: true,
})

const callers = computed(() => (seen.value ? columns(seen.value) : []))
const ready = computed(() =>
  (seen.value?.groups ?? []).filter((g) => g.entry && !g.odd && !g.confirmed && !g.guessed).map((g) => g.id),
)
const nothing = computed(() => !seen.value || seen.value.state === 'none')

async function start() {
  await run(() => observing.start(target.value, also.value, false))
}
async function stop() {
  await run(() => observing.stop(target.value))
}
async function confirm(groups: string[], guesses: string[], title: string) {
  await run(async () => {
    await pending.edit(
      (t) =>
        ask(
          api.POST('/api/observe/confirm', {
            body: { target: target.value, text: changed.value ? t : '', groups, guesses },
          }),
        ),
      () => title,
    )
  })
}
function decide(g: ObservedGroup) {
  ruled.value = g.routes
  ruling.value = true
}
async function rule(set: Record<string, string>) {
  await run(async () => {
    await pending.edit(
      (t) => ask(api.POST('/api/board/edit', { body: { text: t, routes: ruled.value, callers: [], set } })),
      (r) => r.title,
    )
  })
}
useKeys([{ keys: 'a', says: 'ask what it does today', run: () => void start() }])
</script>

<template>
  <div class="place">
    <header>
      <h1>What it does today</h1>
      <p v-if="seen?.at && seen.done && !nothing" class="faint">
        {{ target }}, {{ seen.done }} safe reads by nobody and
        {{ seen.callers.length === 2 ? 'one caller' : `${seen.callers.length - 1} callers` }},
        <span :title="exact(seen.at)">{{ ago(seen.at, now) }}</span>. Nothing is decided until you say so.
      </p>
      <span class="right">
        <b v-if="seen">{{ seen.decided }} of {{ seen.routes }}</b>
        <span v-says="glossary.undecided" class="faint"> routes decided</span>
      </span>
    </header>
    <p v-if="error" class="bad" role="alert">{{ error }}</p>
    <div class="acts">
      <template v-if="progress">
        <NProgress
          class="bar"
          type="line"
          :percentage="Math.floor((100 * progress.done) / Math.max(1, progress.planned))"
          :show-indicator="false"
        />
        <span role="status">{{ progress.done }} of {{ progress.planned }} reads</span>
        <NButton size="small" @click="stop">Stop</NButton>
      </template>
      <template v-else>
        <NButton :type="nothing ? 'primary' : 'default'" :loading="busy" :disabled="!target" @click="start">{{
          nothing ? `Ask ${target || 'the target'}` : 'Ask again'
        }}</NButton>
        <NButton
          v-if="ready.length > 1"
          type="primary"
          :disabled="busy"
          title="Those that look wrong, are guessed or not known stay as they are"
          @click="confirm(ready, [], `Confirm ${ready.length} groups that were observed`)"
          >Confirm the {{ ready.length }} that look right</NButton
        >
        <span v-if="seen?.note" class="bad">{{ seen.note }}</span>
      </template>
    </div>
    <section v-if="nothing && !progress" class="sheet about">
      <p>
        Every route that nobody has decided is asked once as nobody and once as each caller: with GET and HEAD only,
        inside the target's pace, on own records, on somebody else's and on one of each group and team. Nothing is sent
        that takes a link, or whose path or summary says that it does something.
      </p>
      <p>
        You then see who gets in, in groups, what looks wrong first, and each group with the line that says exactly
        this. What you confirm becomes part of the declaration; what you leave stays undecided, and is not checked.
      </p>
      <p v-if="!target" class="bad">There is no target yet. <RouterLink to="/targets">Add one</RouterLink></p>
    </section>
    <table v-else-if="seen?.groups.length" class="sheet groups">
      <thead>
        <tr>
          <th v-says="glossary.groups" scope="col">who gets in</th>
          <th v-for="c in callers" :key="c.label" v-says="c.says" scope="col" class="who">{{ c.label }}</th>
          <th v-says="glossary.fate" scope="col"><span class="visually-hidden">what becomes of it</span></th>
        </tr>
      </thead>
      <tbody>
        <GroupRow
          v-for="g in seen.groups"
          :key="g.id"
          :group="g"
          :callers="callers"
          :target="target"
          :open="open === g.id"
          :busy="busy || !!progress"
          @toggle="open = open === g.id ? '' : g.id"
          @confirm="confirm([g.id], [], `Confirm: ${g.title}`)"
          @decide="decide(g)"
        />
      </tbody>
    </table>
    <p v-for="l in seen?.lost ?? []" :key="l" class="lost">Not known: {{ l }}. Being refused means nothing for it.</p>
    <WriteGuesses
      v-if="seen?.guesses.length && !nothing"
      :guesses="seen.guesses"
      :busy="busy || !!progress"
      @confirm="
        (r) => confirm([], r, `Confirm what was guessed for ${r.length} ${r.length === 1 ? 'write' : 'writes'}`)
      "
    />
    <NotAsked v-if="seen?.left.length" v-model:also="also" :left="seen.left" />
    <RuleDialog v-if="board" v-model:show="ruling" :board="board" :routes="ruled" @write="rule" />
  </div>
</template>

<style scoped>
header {
  display: flex;
  align-items: baseline;
  gap: 16px;
  flex-wrap: wrap;
}
header p {
  margin: 0;
}
.right {
  margin-left: auto;
}
.acts {
  display: flex;
  align-items: center;
  gap: 10px;
  margin: 8px 0 14px;
  min-height: 34px;
}
.bar {
  width: 260px;
}
.about {
  padding: 12px 20px;
  max-width: 760px;
}
.groups {
  width: 100%;
  border-collapse: collapse;
  table-layout: auto;
}
th {
  text-align: left;
  font-weight: 400;
  color: var(--faint);
  padding: 7px 8px;
  border-bottom: 1px solid var(--line);
}
th:first-child {
  padding-left: 16px;
}
.who {
  color: var(--ink);
  font-weight: 600;
  text-align: center;
  white-space: nowrap;
}
.lost {
  color: var(--W);
}
.bad {
  color: var(--U);
}
</style>
