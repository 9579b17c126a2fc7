<script setup lang="ts">
import { useEventListener } from '@vueuse/core'
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, onMounted, ref, watch } from 'vue'
import type { Head, Lens, ShownRow } from '../lenses'
import GridHead from './GridHead.vue'
import GridRow from './GridRow.vue'
import { useCursor } from './useCursor'
import { useSizes } from './useSizes'

const props = defineProps<{
  rows: ShownRow[]
  heads: Head[]
  lens: Lens
  count: number
  selected: { route: string; caller: string } | null
  second: { route: string; caller: string } | null
  hint: string
  editing: boolean
  picked: Map<string, Set<string>>
}>()
const emit = defineEmits<{
  open: [row: ShownRow, head: Head, also: boolean]
  sheet: [row: ShownRow]
  pick: [rows: ShownRow[], heads: Head[], how: 'toggle' | 'add']
  focus: [row: ShownRow | null, head: Head | null]
  unfold: [head: Head]
  up: []
}>()

// Rows stand below the name of what their paths have in common.
type Item = { group: string } | { row: ShownRow; index: number }
const items = computed<Item[]>(() => {
  const out: Item[] = []
  let prefix: string | null = null
  props.rows.forEach((row, index) => {
    if (row.prefix !== prefix) {
      prefix = row.prefix
      out.push({ group: row.prefix })
    }
    out.push({ row, index })
  })
  return out
})
const itemOfRow = computed(() => {
  const m: number[] = []
  items.value.forEach((it, i) => {
    if ('row' in it) m[it.index] = i
  })
  return m
})

const scroller = ref<HTMLElement | null>(null)
const { routeWidth, fixed, cell, narrow, nameSize, headHeight, drawn, shorten, drag } = useSizes(
  scroller,
  () => props.heads,
)
const virtual = useVirtualizer(
  computed(() => ({
    count: items.value.length,
    getScrollElement: () => scroller.value,
    estimateSize: (i: number) => ('group' in (items.value[i] as Item) ? 22 : 25),
    overscan: 6,
    // The heads stay on top of the rows.
    scrollMargin: headHeight.value,
    scrollPaddingStart: headHeight.value,
    getItemKey: (i: number) => {
      const it = items.value[i] as Item
      return 'group' in it ? `g${it.group}` : it.row.key
    },
  })),
)
const { at, current, move, gap, find, towards } = useCursor({
  rows: () => props.rows,
  heads: () => props.heads,
  lens: () => props.lens,
  scroller,
  fixed,
  cell,
  show: (row) => virtual.value.scrollToIndex(itemOfRow.value[row] ?? 0),
})
watch(current, (c) => emit('focus', c.row, c.head), { immediate: true })
const focused = ref(false)
const hovered = ref<{ r: number; c: number } | null>(null)
const lit = computed(() => (focused.value || hovered.value ? (hovered.value ?? at.value).c : -1))

// When the board was first on the screen; `make bench` reads it.
onMounted(() => requestAnimationFrame(() => performance.mark('millgate-board')))

/** The crossing in focus. */
function here() {
  const { row, head } = current.value
  return row && head ? { route: row.key, caller: head.key } : null
}
defineExpose({ move, gap, find, here, focus: () => scroller.value?.focus() })

function onKey(e: KeyboardEvent) {
  const to = towards(e)
  const { row, head } = current.value
  if (to) {
    e.preventDefault()
    if (e.key === 'ArrowUp' && at.value.r === 0) emit('up')
    move(...to)
    if (props.editing && e.shiftKey && e.key.startsWith('Arrow')) span(at.value.r, at.value.c)
    else anchor.value = { ...at.value }
  } else if (props.editing && (e.key === 'Enter' || e.key === ' ') && row && head) {
    e.preventDefault()
    anchor.value = { ...at.value }
    emit('pick', [row], [head], 'toggle')
  } else if (e.key === 'Enter' && row && head) {
    e.preventDefault()
    emit('open', row, head, e.shiftKey)
  } else if (e.key === 'i' && row) {
    e.preventDefault()
    emit('sheet', row)
  }
}
// A range goes from where it was begun to here.
const anchor = ref({ r: 0, c: 0 })
function span(r: number, c: number) {
  const [r0, r1] = [Math.min(anchor.value.r, r), Math.max(anchor.value.r, r)]
  const [c0, c1] = [Math.min(anchor.value.c, c), Math.max(anchor.value.c, c)]
  emit('pick', props.rows.slice(r0, r1 + 1), props.heads.slice(c0, c1 + 1), 'add')
}
let dragging = false
useEventListener('pointerup', () => (dragging = false))
function down(r: number, c: number) {
  if (!props.editing) return
  dragging = true
  anchor.value = { r, c }
}
function rowHead(r: number, e: MouseEvent) {
  const row = props.rows[r]
  if (!row) return
  if (!props.editing) emit('sheet', row)
  else if (e.shiftKey)
    emit('pick', props.rows.slice(Math.min(anchor.value.r, r), Math.max(anchor.value.r, r) + 1), props.heads, 'add')
  else {
    anchor.value = { r, c: 0 }
    emit('pick', [row], props.heads, 'toggle')
  }
}
function colHead(h: Head) {
  if (props.editing) emit('pick', props.rows, [h], 'toggle')
  else if (h.folded) emit('unfold', h)
}
function groupHead(prefix: string) {
  const rows = props.rows.filter((r) => r.prefix === prefix)
  if (props.editing) emit('pick', rows, props.heads, 'toggle')
}
function click(r: number, c: number, e: MouseEvent) {
  const moved = props.editing && (anchor.value.r !== r || anchor.value.c !== c)
  at.value = { r, c }
  const { row, head } = current.value
  if (!row || !head) return
  if (!props.editing) emit('open', row, head, e.shiftKey)
  else if (e.shiftKey) span(r, c)
  else if (!moved) emit('pick', [row], [head], 'toggle')
}
function over(r: number, c: number) {
  const row = props.rows[r]
  const head = props.heads[c]
  hovered.value = { r, c }
  if (row && head) emit('focus', row, head)
  if (dragging && (r !== anchor.value.r || c !== anchor.value.c)) span(r, c)
}
function out() {
  hovered.value = null
  emit('focus', current.value.row, current.value.head)
}
function columnOf(e: PointerEvent): number {
  const hit = (e.target as HTMLElement).closest<HTMLElement>('[data-c]')
  return hit ? Number(hit.dataset.c) : 0
}
</script>

<template>
  <div
    ref="scroller"
    class="scroller"
    role="grid"
    tabindex="0"
    :aria-rowcount="rows.length + 1"
    :aria-colcount="heads.length + 1"
    :aria-multiselectable="editing"
    :class="{ editing }"
    :aria-activedescendant="rows.length ? `cell-${at.r}-${at.c}` : undefined"
    aria-label="Routes by callers"
    @keydown="onKey"
    @focus="focused = true"
    @blur="focused = false"
    @mouseleave="out"
  >
    <div
      class="inner"
      :style="{
        '--cell': `${cell}px`,
        '--route': `${routeWidth}px`,
        '--name': `${nameSize}px`,
        minWidth: `${fixed + heads.length * cell}px`,
      }"
    >
      <GridHead
        :heads="heads"
        :rows="rows.length"
        :count="count"
        :narrow="narrow"
        :height="headHeight"
        :editing="editing"
        :lit="lit"
        @drag="drag"
        @head="colHead"
      />
      <div role="rowgroup" :style="{ height: `${virtual.getTotalSize()}px`, position: 'relative' }">
        <template v-for="v in virtual.getVirtualItems()" :key="String(v.key)">
          <div
            v-if="'group' in items[v.index]!"
            class="group"
            role="row"
            :style="{ transform: `translateY(${v.start - headHeight}px)` }"
          >
            <span role="gridcell" class="mono">{{ (items[v.index] as { group: string }).group }}</span>
            <div v-if="editing" role="gridcell" class="whole">
              <button class="bare" tabindex="-1" @click="groupHead((items[v.index] as { group: string }).group)">
                select all of it
              </button>
            </div>
          </div>
          <template v-for="it in [items[v.index] as { row: ShownRow; index: number }]" v-else :key="it.row.key">
            <GridRow
              :row="it.row"
              :index="it.index"
              :path="shorten(it.row)"
              :heads="heads"
              :from="drawn.from"
              :to="drawn.to"
              :lens="lens"
              :at="focused && at.r === it.index ? at.c : -1"
              :selected="selected?.route === it.row.key ? selected.caller : null"
              :second="second?.route === it.row.key ? second.caller : null"
              :hover="hovered?.r === it.index ? hovered.c : -1"
              :hint="hovered?.r === it.index ? hint : ''"
              :style="{ transform: `translateY(${v.start - headHeight}px)` }"
              :editing="editing"
              :picked="picked.get(it.row.key)"
              @hit="click"
              @over="over"
              @head="rowHead"
              @pointerdown="down(it.index, columnOf($event))"
            />
          </template>
        </template>
      </div>
    </div>
  </div>
</template>

<style scoped>
.scroller {
  height: 100%;
  overflow: auto;
  background: var(--sheet);
  outline-offset: -2px;
  contain: strict;
}
.scroller:focus-visible {
  outline: none;
}
.group {
  position: absolute;
  inset: 0 0 auto 0;
  display: flex;
}
.group {
  height: 22px;
  background: var(--ground);
  border-bottom: 1px solid var(--hair);
}
.whole {
  position: sticky;
  left: 190px;
}
.whole button {
  font-size: 12px;
  color: var(--mill);
}
.editing {
  user-select: none;
}
.group span {
  position: sticky;
  left: 0;
  padding: 2px 12px;
  font-weight: 600;
  color: var(--faint);
}
</style>
