<script setup lang="ts">
import { useEventListener, useLocalStorage } from '@vueuse/core'
import { NButton, useMessage } from 'naive-ui'
import { storeToRefs } from 'pinia'
import { computed, defineAsyncComponent, nextTick, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, message } from '../api/client'
import { typing, useKeys } from '../keys/keys'
import { lenses, type Head, type Lens, type ShownRow } from '../lenses'
import { usePages } from '../lenses/origins/usePages'
import { usePending } from '../stores/pending'
import { useSweep } from '../stores/sweep'
import { useWorkspace } from '../stores/workspace'
import BoardGrid from './BoardGrid.vue'
import BoardTools from './BoardTools.vue'
import NoRoutes from './NoRoutes.vue'
import UndecidedNote from './UndecidedNote.vue'
import { useHint } from './useHint'
import { usePicked } from './usePicked'
import { useRows } from './useRows'

const EvidenceDrawer = defineAsyncComponent(() => import('../drawer/EvidenceDrawer.vue'))
const RouteSheet = defineAsyncComponent(() => import('../drawer/RouteSheet.vue'))
const WorkList = defineAsyncComponent(() => import('../drawer/WorkList.vue'))
const JudgePages = defineAsyncComponent(() => import('./JudgePages.vue'))
const EditBar = defineAsyncComponent(() => import('./EditBar.vue'))
const PagesBar = defineAsyncComponent(() => import('../lenses/origins/PagesBar.vue'))
const BoardLegend = defineAsyncComponent(() => import('./BoardLegend.vue'))

const StartPage = defineAsyncComponent(() => import('../places/start/StartPage.vue'))
const workspace = useWorkspace()
const { board, boardError, notFair, target } = storeToRefs(workspace)
const { running } = storeToRefs(useSweep())
const edits = usePending()
const url = useRoute()
const router = useRouter()
const toast = useMessage()
const editing = computed(() => url.query.edit === '1')
// Rules are edited in the Access lens, whose columns are callers; what pages may do in the Origins lens.
const lens = computed(() => {
  const l = lenses.find((l) => l.id === url.query.lens)
  return (editing.value && l?.id !== 'origins' ? undefined : l) ?? lenses[0]!
})
const ofPages = computed(() => lens.value.id === 'origins')
const ruling = computed(() => editing.value && !ofPages.value)
const grid = ref<InstanceType<typeof BoardGrid> | null>(null)
const tools = ref<InstanceType<typeof BoardTools> | null>(null)

const q = computed({
  get: () => String(url.query.q ?? ''),
  set: (v) => void router.replace({ query: { ...url.query, q: v || undefined } }),
})
const selected = computed(() =>
  url.query.route ? { route: String(url.query.route), caller: String(url.query.caller ?? '') } : null,
)
const second = ref<{ route: string; caller: string } | null>(null)
const judging = ref(false)
const worklist = computed(() => url.query.list === 'not-fair')
const sheet = computed(() => (url.query.sheet ? String(url.query.sheet) : ''))
const { now: pagesNow, then: pagesThen, draft: pagesDraft } = usePages(ofPages, editing)
const { rows, heads, filter, unfold, changed } = useRows(lens, q, pagesThen)
const { since, list: turned, error: untold } = changed
const { hint, focus } = useHint(lens)
const { picked, pick, clear } = usePicked(() => board.value)

// The marks are explained on the first board that somebody sees, and whenever they are asked for.
const explained = useLocalStorage('millgate.explained', false)
const explaining = ref(false)
watch(
  () => !!board.value && !board.value.empty && !explained.value,
  (first) => {
    if (!first) return
    explaining.value = true
    explained.value = true
  },
  { immediate: true },
)

/** What is open beside the grid is part of the address. */
const closed = { route: undefined, caller: undefined, list: undefined, sheet: undefined }
function go(query: Record<string, string | undefined>) {
  void router.push({ query: { ...url.query, ...query } })
}
function open(row: ShownRow, head: Head, also = false) {
  const to = { route: row.key, caller: head.key }
  if (also && selected.value) {
    second.value = to
    return
  }
  second.value = null
  go({ ...closed, route: to.route, caller: to.caller || undefined })
}
function close() {
  second.value = null
  go(closed)
  void nextTick(() => grid.value?.focus())
}
function showSheet(row: ShownRow) {
  if (row.declared) go({ ...closed, sheet: row.key })
}

// Editing: crossings are selected in place of opened.
function edit(on: boolean) {
  clear()
  void router.replace({ query: { ...url.query, ...(on ? { ...closed, edit: '1' } : { edit: undefined }) } })
  void nextTick(() => grid.value?.focus())
}
useEventListener('keydown', (e: KeyboardEvent) => {
  if (!(e.ctrlKey || e.metaKey) || e.key.toLowerCase() !== 'z' || typing(e)) return
  e.preventDefault()
  if (!e.shiftKey && edits.canUndo) edits.undo()
  else if (e.shiftKey && edits.canRedo) edits.redo()
})
// A crossing opened from elsewhere is brought into view.
watch(
  [selected, () => rows.value.length],
  ([s]) => {
    if (s) void nextTick(() => grid.value?.find(s.route, s.caller))
  },
  { immediate: true },
)

/** Rows, filter and scroll position stay; what was open belongs to the old lens. */
function look(id: Lens['id']) {
  go({ lens: id === lenses[0]!.id ? undefined : id, edit: undefined, route: undefined, caller: undefined })
  void nextTick(() => grid.value?.focus())
}

const asking = ref(false)
async function probeSelection() {
  const s = selected.value ?? grid.value?.here()
  if (!s || asking.value || running.value) return
  const row = board.value?.rows.find((r) => r.key === s.route)
  if (row && !['GET', 'HEAD', 'OPTIONS'].includes(row.method)) {
    // An unsafe one asks first, in the drawer.
    go({ list: undefined, route: s.route, caller: s.caller || undefined, ask: '1' })
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
  { keys: '/', says: 'filter', run: () => tools.value?.focus() },
  { keys: 'n', says: 'next gap', run: () => (grid.value?.gap(1), grid.value?.focus()) },
  { keys: 'N', says: 'previous gap', run: () => (grid.value?.gap(-1), grid.value?.focus()) },
  { keys: 'p', says: 'probe the selection again', run: () => void probeSelection() },
  { keys: 'l', says: 'what the marks of the board mean', run: () => (explaining.value = true) },
  { keys: 'e', says: 'edit the rules, or what pages may do, on the board', run: () => edit(!editing.value) },
  {
    keys: 'Escape',
    says: 'close the drawer, leave editing',
    run: () => {
      if (selected.value || worklist.value || sheet.value) close()
      else if (picked.value.size) clear()
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
    <NButton @click="workspace.refresh">Try again</NButton>
  </div>
  <NoRoutes v-else-if="board?.empty && edits.effect?.added.length" />
  <StartPage v-else-if="board?.empty" />
  <div v-else-if="board" class="board">
    <div class="pane">
      <BoardTools
        ref="tools"
        v-model:q="q"
        :board="board"
        :lens="lens"
        :not-fair="notFair"
        :editing="editing"
        :wrong="filter?.wrong ?? []"
        @look="look"
        @worklist="go({ ...closed, list: 'not-fair' })"
        @judge="judging = true"
        @edit="edit(true)"
        @legend="explaining = true"
        @leave="grid?.focus()"
      />
      <JudgePages v-model:show="judging" />
      <BoardLegend v-model:show="explaining" />
      <PagesBar
        v-if="editing && ofPages && pagesNow"
        v-model:draft="pagesDraft"
        :now="pagesNow"
        :then="pagesThen ?? pagesNow"
        @done="edit(false)"
      />
      <EditBar v-if="ruling" :board="board" :picked="picked" @clear="clear" @done="edit(false)" />
      <div v-if="board.errors" class="note">
        The declaration has {{ board.errors === 1 ? 'an error' : `${board.errors} errors` }}, so nothing can be judged.
        <RouterLink to="/declaration">Mend it</RouterLink>
      </div>
      <UndecidedNote :board="board" />
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
          :editing="ruling"
          :picked="picked"
          @open="open"
          @sheet="showSheet"
          @pick="pick"
          @focus="focus"
          @up="tools?.focus()"
          @unfold="unfold"
        />
        <div v-else-if="board.rows.length" class="none">
          <p>
            No route matches <span class="mono">{{ q }}</span>.
          </p>
          <NButton @click="q = ''">Clear the filter</NButton>
        </div>
        <NoRoutes v-else />
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
      :since="since"
      :turned="turned ?? []"
      :untold="untold"
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
