<script setup lang="ts">
import { NButton, useMessage } from 'naive-ui'
import { computed, defineAsyncComponent, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, message, type Crossing } from '../api/client'
import EvidenceDrawer from '../drawer/EvidenceDrawer.vue'
import RouteSheet from '../drawer/RouteSheet.vue'
import WorkList from '../drawer/WorkList.vue'
import { typing, useKeys } from '../keys/keys'
import { canRedo, canUndo, effect, pending, redo, undo } from '../state/pending'
import { board, boardError, notFair, refresh, running, target, version } from '../state/workspace'
import BoardGrid from './BoardGrid.vue'
import BoardLegend from './BoardLegend.vue'
import EditBar from './EditBar.vue'
import { parse } from './filter'
import FilterLine from './FilterLine.vue'
import JudgePages from './JudgePages.vue'
import KindChips from './KindChips.vue'
import { lenses, type Head, type ShownRow } from './lens'

const StartPage = defineAsyncComponent(() => import('../places/start/StartPage.vue'))
const url = useRoute()
const editing = computed(() => url.query.edit === '1')
const router = useRouter()
const toast = useMessage()
// Rules are edited in the Access lens, whose columns are callers.
const lens = computed(() => (editing.value ? undefined : lenses.find((l) => l.id === url.query.lens)) ?? lenses[0]!)
const grid = ref<InstanceType<typeof BoardGrid> | null>(null)
const line = ref<InstanceType<typeof FilterLine> | null>(null)
const unfolded = ref(new Set<number>())

const q = computed({
  get: () => String(url.query.q ?? ''),
  set: (v) => void router.replace({ query: { ...url.query, q: v || undefined } }),
})
const selected = computed(() =>
  url.query.route ? { route: String(url.query.route), caller: String(url.query.caller ?? '') } : null,
)
const second = ref<{ route: string; caller: string } | null>(null)
const judging = ref(false)
const explaining = ref(false)
const worklist = computed(() => url.query.list === 'not-fair')
const sheet = computed(() => (url.query.sheet ? String(url.query.sheet) : ''))

const allHeads = computed(() => (board.value ? lens.value.heads(board.value, unfolded.value) : []))
const filter = computed(() => (board.value ? parse(q.value, board.value, lens.value, allHeads.value) : null))
// Pending edits show on the board as they would be.
const shownRows = computed<ShownRow[]>(() => {
  const b = board.value
  if (!b) return []
  const e = effect.value
  if (!pending.value || !e || e.failed || !e.changes.length) return b.rows
  const column = new Map(b.columns.map((c, i) => [c.key, i]))
  const by = new Map<string, [number, string][]>()
  for (const c of e.changes) {
    const i = column.get(c.caller)
    if (i === undefined) continue
    const list = by.get(c.route) ?? []
    list.push([i, c.letter])
    by.set(c.route, list)
  }
  return b.rows.map((r) => {
    const list = by.get(r.key)
    if (!list) return r
    const expect = [...r.expect]
    const mark = [...'0'.repeat(b.columns.length)]
    for (const [i, letter] of list) {
      expect[i] = letter
      mark[i] = '1'
    }
    return { ...r, expect: expect.join(''), pending: mark.join('') }
  })
})
const rows = computed(() => {
  const b = board.value
  const f = filter.value
  if (!b || !f) return []
  return shownRows.value.filter(
    (r) => f.row(r) && (!f.quiet || r.worst || [...r.verdict].some((v) => 'UPTLXSKRW'.includes(v))),
  )
})
const heads = computed(() => {
  const f = filter.value
  if (!f) return []
  const named = allHeads.value.filter((h) => f.head(h))
  // A column that means nothing on any of the rows says nothing.
  const some = named.filter((h) => rows.value.some((r) => lens.value.cell(r, h).expect !== '-'))
  const list = some.length ? some : named
  if (!f.quiet) return list
  const loud = list.filter((h) => rows.value.some((r) => 'UPTLXSKRW'.includes(lens.value.cell(r, h).verdict)))
  return loud.length ? loud : list
})

function toggle(word: string) {
  const list = q.value.split(/\s+/).filter(Boolean)
  q.value = (
    list.includes(word)
      ? list.filter((w) => w !== word)
      : [...list.filter((w) => !word.startsWith('gap:') || !w.startsWith('gap:')), word]
  ).join(' ')
}

function open(row: ShownRow, head: Head, also = false) {
  const to = { route: row.key, caller: head.key }
  if (also && selected.value) {
    second.value = to
    return
  }
  second.value = null
  void router.push({
    query: { ...url.query, list: undefined, sheet: undefined, route: to.route, caller: to.caller || undefined },
  })
}
function close() {
  second.value = null
  void router.push({ query: { ...url.query, route: undefined, caller: undefined, list: undefined, sheet: undefined } })
  void nextTick(() => grid.value?.focus())
}
function showList() {
  void router.push({ query: { ...url.query, route: undefined, caller: undefined, sheet: undefined, list: 'not-fair' } })
}
function showSheet(row: ShownRow) {
  if (row.declared)
    void router.push({ query: { ...url.query, route: undefined, caller: undefined, list: undefined, sheet: row.key } })
}

// Editing: crossings are selected in place of opened.
function edit(on: boolean) {
  picked.value = new Map()
  void router.replace({
    query: on
      ? { ...url.query, edit: '1', route: undefined, caller: undefined, list: undefined, sheet: undefined }
      : { ...url.query, edit: undefined },
  })
  void nextTick(() => grid.value?.focus())
}
const picked = ref(new Map<string, Set<string>>())
function pick(list: ShownRow[], of: Head[], how: 'toggle' | 'add') {
  const b = board.value
  if (!b) return
  const keys = of.flatMap((h) => h.columns.map((i) => b.columns[i]!.key))
  const all = list.filter((r) => r.declared)
  const next = new Map(picked.value)
  const off = how === 'toggle' && all.every((r) => keys.every((k) => next.get(r.key)?.has(k)))
  for (const r of all) {
    const s = new Set(next.get(r.key))
    for (const k of keys)
      if (off) s.delete(k)
      else s.add(k)
    if (s.size) next.set(r.key, s)
    else next.delete(r.key)
  }
  picked.value = next
}
function onUndo(e: KeyboardEvent) {
  if (!(e.ctrlKey || e.metaKey) || e.key.toLowerCase() !== 'z' || typing(e)) return
  e.preventDefault()
  if (e.shiftKey ? canRedo.value : canUndo.value) (e.shiftKey ? redo : undo)()
}
onMounted(() => addEventListener('keydown', onUndo))
onBeforeUnmount(() => removeEventListener('keydown', onUndo))
// A crossing opened from elsewhere is brought into view.
watch(
  [selected, () => rows.value.length],
  ([s]) => {
    if (s) void nextTick(() => grid.value?.find(s.route, s.caller))
  },
  { immediate: true },
)

// One sentence for the cell under the pointer or in focus.
const hint = ref('')
const known = new Map<string, string>()
watch(version, () => known.clear())
let asked = 0
async function focus(row: ShownRow | null, head: Head | null) {
  if (!row || !head) {
    hint.value = ''
    return
  }
  const key = `${row.key}\n${head.key}`
  const c = lens.value.cell(row, head)
  hint.value = known.get(key) ?? `${head.label} at ${row.key}: expected ${lens.value.expectation(c.expect)}`
  if (known.has(key)) return
  if (c.expect === '-') {
    hint.value = `${head.label} at ${row.key}: means nothing here`
    return
  }
  const turn = ++asked
  await new Promise((r) => setTimeout(r, 120))
  if (turn !== asked) return
  try {
    const x = await ask(
      api.GET('/api/crossing', {
        params: { query: { route: row.key, caller: head.key, target: target.value || undefined } },
      }),
    )
    const s = sentence(x)
    known.set(key, s)
    if (turn === asked) hint.value = s
  } catch {
    // The plain words above stay.
  }
}
function sentence(x: Crossing): string {
  const p = x.probes[0]
  const why = p?.ladder[p.decider - 1]?.text ?? x.reason
  const seen = p?.exchange
    ? p.exchange.status
      ? `${p.exchange.status} in ${Math.max(1, Math.round(p.exchange.ms))} ms`
      : 'no answer'
    : 'nothing yet'
  const what = p && x.probes.length > 1 ? ` (${p.label})` : ''
  if (p?.page) {
    const got = p.page.got ? `can ${p.page.got === 'nothing' ? 'do nothing' : p.page.got}` : 'not asked yet'
    return `${x.label} at ${x.route}: declared is ${p.page.want}; ${got}`
  }
  if (p?.quota)
    return `quota ${p.quota.name} at ${x.route}: declared ${p.quota.declared}; ${p.quota.found || 'not measured yet'}`
  if (/^(counted|quota):/.test(x.caller))
    return `${x.label} at ${x.route}: ${x.left[0]?.why ?? 'not measured; the plan of a sweep says why'}`
  if (x.caller.startsWith('origin:')) return `${x.label} at ${x.route}: ${x.left[0]?.why ?? 'not asked'}`
  const who = x.caller.startsWith('credential:') ? `credential (${x.caller.slice(11)})` : x.caller || 'nobody'
  return `${who} at ${x.route}${what}: expected ${p?.expected ?? x.expected}${why ? `, ${why}` : ''}; observed: ${seen}`
}

/** Rows, filter and scroll position stay; what was open belongs to the old lens. */
function look(id: string) {
  void router.push({
    query: {
      ...url.query,
      lens: id === lenses[0]!.id ? undefined : id,
      edit: undefined,
      route: undefined,
      caller: undefined,
    },
  })
  void nextTick(() => grid.value?.focus())
}

const asking = ref(false)
async function probeSelection() {
  const s =
    selected.value ??
    (grid.value && rows.value[grid.value.at.r] && heads.value[grid.value.at.c]
      ? { route: rows.value[grid.value.at.r]!.key, caller: heads.value[grid.value.at.c]!.key }
      : null)
  if (!s || asking.value || running.value) return
  const row = board.value?.rows.find((r) => r.key === s.route)
  if (row && !['GET', 'HEAD', 'OPTIONS'].includes(row.method)) {
    // An unsafe one asks first, in the drawer.
    void router.push({
      query: { ...url.query, list: undefined, route: s.route, caller: s.caller || undefined, ask: '1' },
    })
    return
  }
  asking.value = true
  try {
    await ask(api.POST('/api/probe-again', { body: { target: target.value, crossings: [s] } }))
  } catch (e) {
    toast.error(message(e))
  } finally {
    asking.value = false
  }
}

useKeys([
  { keys: '/', says: 'filter', run: () => line.value?.focus() },
  { keys: 'n', says: 'next gap', run: () => (grid.value?.gap(1), grid.value?.focus()) },
  { keys: 'N', says: 'previous gap', run: () => (grid.value?.gap(-1), grid.value?.focus()) },
  { keys: 'p', says: 'probe the selection again', run: () => void probeSelection() },
  { keys: 'l', says: 'what the marks of the board mean', run: () => (explaining.value = true) },
  { keys: 'e', says: 'edit the rules on the board', run: () => edit(!editing.value) },
  {
    keys: 'Escape',
    says: 'close the drawer, leave editing',
    run: () => {
      if (selected.value || worklist.value || sheet.value) close()
      else if (picked.value.size) picked.value = new Map()
      else if (editing.value) edit(false)
    },
  },
  ...lenses.map((l, i) => ({ keys: String(i + 1), says: `lens: ${l.name}`, run: () => look(l.id) })),
])
</script>

<template>
  <div v-if="boardError && !board" class="place">
    <h1>The board cannot be shown</h1>
    <p>{{ boardError }}</p>
    <NButton @click="refresh">Try again</NButton>
  </div>
  <StartPage v-else-if="board?.empty" />
  <div v-else-if="board" class="board">
    <div class="pane">
      <div class="tools">
        <KindChips :board="board" :q="q" :not-fair="notFair" @toggle="toggle" @worklist="showList" />
        <div class="second">
          <div class="lens" role="group" aria-label="Lens">
            <button
              v-for="(l, i) in lenses"
              :key="l.id"
              class="bare"
              :class="{ on: lens === l }"
              :aria-pressed="lens === l"
              :title="`${l.question} (${i + 1})`"
              @click="look(l.id)"
            >
              {{ l.name }}
            </button>
            <span>{{ lens.question }}</span>
          </div>
          <NButton v-if="lens.id === 'origins'" size="small" @click="judging = true">Judge answers…</NButton>
          <NButton v-else-if="!editing" size="small" title="Edit the rules on the board (e)" @click="edit(true)"
            >Edit rules</NButton
          >
          <button class="bare legend" title="What the marks of the board mean (l)" @click="explaining = true">
            Legend
          </button>
          <FilterLine ref="line" v-model="q" :board="board" :wrong="filter?.wrong ?? []" @leave="grid?.focus()" />
        </div>
      </div>
      <JudgePages v-model:show="judging" />
      <BoardLegend v-model:show="explaining" />
      <EditBar v-if="editing" :board="board" :picked="picked" @clear="picked = new Map()" @done="edit(false)" />
      <div v-if="board.errors" class="note">
        The declaration has {{ board.errors === 1 ? 'an error' : `${board.errors} errors` }}, so nothing can be judged.
        <RouterLink to="/declaration">Mend it</RouterLink>
      </div>
      <div class="grid">
        <BoardGrid
          v-if="rows.length"
          ref="grid"
          :rows="rows"
          :heads="heads"
          :lens="lens"
          :count="board.rows.length"
          :selected="selected"
          :second="second"
          :hint="hint"
          :editing="editing"
          :picked="picked"
          @open="open"
          @sheet="showSheet"
          @pick="pick"
          @focus="focus"
          @up="line?.focus()"
          @unfold="(h) => (unfolded = new Set([...unfolded, board!.columns[h.columns[0]!]!.class]))"
        />
        <div v-else-if="board.rows.length" class="none">
          <p>
            No route matches <span class="mono">{{ q }}</span>.
          </p>
          <NButton @click="q = ''">Clear the filter</NButton>
        </div>
        <div v-else class="none"><p>The declaration names no route yet. Bring some in with Add routes.</p></div>
      </div>
      <div class="hint" aria-live="polite">{{ hint || ' ' }}</div>
    </div>
    <EvidenceDrawer
      v-if="selected"
      :key="target"
      :route="selected.route"
      :caller="selected.caller"
      :second="second"
      :confirming="url.query.ask === '1'"
      @close="close"
    />
    <RouteSheet v-else-if="sheet" :route="sheet" @close="close" />
    <WorkList v-else-if="worklist" @close="close" />
  </div>
</template>

<style scoped>
.board {
  height: 100%;
  display: flex;
  min-width: 0;
}
.pane {
  flex: 1;
  min-width: 0;
  display: flex;
  flex-direction: column;
}
.tools {
  padding: 8px 12px;
  display: grid;
  gap: 8px;
  border-bottom: 1px solid var(--line);
}
.second {
  display: flex;
  gap: 16px;
  align-items: center;
}
.lens {
  color: var(--faint);
  white-space: nowrap;
  display: flex;
  gap: 10px;
  align-items: baseline;
}
.lens button {
  color: var(--faint);
  padding: 2px 0;
  border-bottom: 2px solid transparent;
}
.lens .on {
  color: var(--mill);
  font-weight: 600;
  border-color: var(--mill);
}
.grid {
  flex: 1;
  min-height: 0;
  background: var(--sheet);
}
.none {
  display: grid;
  justify-items: center;
  padding-top: 64px;
  gap: 8px;
}
.note {
  padding: 8px 12px;
  background: color-mix(in srgb, var(--W) 12%, var(--sheet));
  border-bottom: 1px solid var(--line);
}
.hint {
  flex: none;
  height: 24px;
  padding: 2px 12px;
  font-size: 12px;
  color: var(--faint);
  background: var(--sheet);
  border-top: 1px solid var(--hair);
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
</style>
