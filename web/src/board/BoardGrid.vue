<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { isGap } from '../theme/kinds'
import GridRow from './GridRow.vue'
import type { Head, Lens, ShownRow } from './lens'

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
const width = ref(800)
const chosenWidth = ref(Number(localStorage.getItem('millgate.route') ?? 0))
const observer = new ResizeObserver((e) => (width.value = e[0]?.contentRect.width ?? 800))
onMounted(() => scroller.value && observer.observe(scroller.value))
onBeforeUnmount(() => observer.disconnect())

// Until somebody widens it, the column for paths gives way to the callers.
const routeWidth = computed(
  () => chosenWidth.value || Math.max(150, Math.min(300, Math.round(width.value * 0.24 - 26))),
)
const fixed = computed(() => 12 + 58 + routeWidth.value + 90)
const cell = computed(() =>
  Math.max(30, Math.min(72, Math.floor((width.value - fixed.value - 8) / Math.max(1, props.heads.length)))),
)
const narrow = computed(() => cell.value < 46)
// Turned heads are as high as the longest name needs, within reason.
const headHeight = computed(() =>
  narrow.value ? Math.min(138, Math.max(92, 18 + 6.6 * Math.max(0, ...props.heads.map((h) => h.label.length)))) : 45,
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

// With many callers only the columns in view are drawn, in steps of eight.
const left = ref(0)
const drawn = computed(() => {
  const first = Math.floor(left.value / cell.value)
  const many = Math.ceil((width.value - fixed.value) / cell.value)
  return {
    from: Math.max(0, Math.floor(first / 8) * 8),
    to: Math.min(props.heads.length, Math.ceil((first + many + 1) / 8) * 8),
  }
})

// The column for paths can be widened; a path loses its middle, never its end.
const chars = computed(() => Math.max(8, Math.floor((routeWidth.value - 8) / 7.6)))
function shorten(row: ShownRow): string {
  let p = (row.host ? `${row.host}:` : '') + row.path
  if (p.startsWith(row.prefix)) p = p.slice(row.prefix.length) || '/'
  if (p.length <= chars.value) return p
  const tail = Math.ceil((chars.value - 1) * 0.62)
  return `${p.slice(0, chars.value - 1 - tail)}…${p.slice(-tail)}`
}
function drag(e: PointerEvent) {
  const from = e.clientX
  const was = routeWidth.value
  const move = (m: PointerEvent) => (chosenWidth.value = Math.max(120, Math.min(640, was + m.clientX - from)))
  const done = () => {
    removeEventListener('pointermove', move)
    localStorage.setItem('millgate.route', String(routeWidth.value))
  }
  addEventListener('pointermove', move)
  addEventListener('pointerup', done, { once: true })
}

const at = ref({ r: 0, c: 0 })
const focused = ref(false)
watch(
  () => [props.rows.length, props.heads.length],
  () =>
    (at.value = {
      r: Math.max(0, Math.min(at.value.r, props.rows.length - 1)),
      c: Math.max(0, Math.min(at.value.c, props.heads.length - 1)),
    }),
)
const current = computed(() => ({ row: props.rows[at.value.r] ?? null, head: props.heads[at.value.c] ?? null }))
watch(current, (c) => emit('focus', c.row, c.head), { immediate: true })

function move(r: number, c: number) {
  if (!props.rows.length) return
  at.value = { r: Math.max(0, Math.min(props.rows.length - 1, r)), c: Math.max(0, Math.min(props.heads.length - 1, c)) }
  virtual.value.scrollToIndex(itemOfRow.value[at.value.r] ?? 0)
  void nextTick(sideways)
}
function sideways() {
  const s = scroller.value
  if (!s) return
  const x = fixed.value + at.value.c * cell.value
  if (x - s.scrollLeft < fixed.value) s.scrollLeft = x - fixed.value
  else if (x + cell.value - s.scrollLeft > s.clientWidth) s.scrollLeft = x + cell.value - s.clientWidth
}
function gap(step: 1 | -1) {
  const total = props.rows.length * props.heads.length
  let k = at.value.r * props.heads.length + at.value.c
  // Coming from elsewhere, the cell one stands on counts too.
  if (document.activeElement !== scroller.value) k -= step
  for (let i = 0; i < total; i++) {
    k = (k + step + total) % total
    const r = Math.floor(k / props.heads.length)
    const c = k % props.heads.length
    const row = props.rows[r]
    const head = props.heads[c]
    if (row && head && isGap(props.lens.cell(row, head).verdict)) {
      move(r, c)
      return
    }
  }
}
function find(route: string, caller: string) {
  const r = props.rows.findIndex((x) => x.key === route)
  const c = props.heads.findIndex((h) => h.key === caller || h.columns.length > 1)
  if (r < 0) return
  move(r, c >= 0 ? c : 0)
  // Once more when the sizes are known.
  setTimeout(() => virtual.value.scrollToIndex(itemOfRow.value[at.value.r] ?? 0), 80)
}
defineExpose({ move, gap, find, focus: () => scroller.value?.focus(), at })

function onKey(e: KeyboardEvent) {
  const { r, c } = at.value
  const page = Math.max(1, Math.floor((scroller.value?.clientHeight ?? 400) / 25) - 3)
  const to: Record<string, [number, number]> = {
    ArrowUp: [r - 1, c],
    ArrowDown: [r + 1, c],
    ArrowLeft: [r, c - 1],
    ArrowRight: [r, c + 1],
    PageUp: [r - page, c],
    PageDown: [r + page, c],
    Home: e.ctrlKey ? [0, 0] : [r, 0],
    End: e.ctrlKey ? [props.rows.length - 1, props.heads.length - 1] : [r, props.heads.length - 1],
  }
  const t = to[e.key]
  if (t) {
    e.preventDefault()
    if (e.key === 'ArrowUp' && r === 0) emit('up')
    move(...t)
    if (props.editing && e.shiftKey && e.key.startsWith('Arrow')) span(at.value.r, at.value.c)
    else anchor.value = { ...at.value }
  } else if (props.editing && (e.key === 'Enter' || e.key === ' ') && current.value.row && current.value.head) {
    e.preventDefault()
    anchor.value = { ...at.value }
    emit('pick', [current.value.row], [current.value.head], 'toggle')
  } else if (e.key === 'Enter' && current.value.row && current.value.head) {
    e.preventDefault()
    emit('open', current.value.row, current.value.head, e.shiftKey)
  } else if (e.key === 'i' && current.value.row) {
    e.preventDefault()
    emit('sheet', current.value.row)
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
function down(r: number, c: number) {
  if (!props.editing) return
  dragging = true
  anchor.value = { r, c }
  addEventListener('pointerup', () => (dragging = false), { once: true })
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
  if (props.editing)
    emit(
      'pick',
      props.rows.filter((r) => r.prefix === prefix),
      props.heads,
      'toggle',
    )
}
function click(r: number, c: number, e: MouseEvent) {
  const moved = props.editing && (anchor.value.r !== r || anchor.value.c !== c)
  at.value = { r, c }
  const row = props.rows[r]
  const head = props.heads[c]
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
const hovered = ref<{ r: number; c: number } | null>(null)
function out() {
  hovered.value = null
  emit('focus', current.value.row, current.value.head)
}

function columnOf(e: PointerEvent): number {
  const cell = (e.target as HTMLElement).closest<HTMLElement>('[data-c]')
  return cell ? Number(cell.dataset.c) : 0
}
const id = (r: number, c: number) => `cell-${r}-${c}`
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
    :aria-activedescendant="rows.length ? id(at.r, at.c) : undefined"
    aria-label="Routes by callers"
    @keydown="onKey"
    @focus="focused = true"
    @blur="focused = false"
    @mouseleave="out"
    @scroll.passive="left = scroller?.scrollLeft ?? 0"
  >
    <div
      class="inner"
      :style="{ '--cell': `${cell}px`, '--route': `${routeWidth}px`, minWidth: `${fixed + heads.length * cell}px` }"
    >
      <div class="head" :class="{ narrow }" :style="{ height: `${headHeight}px` }" role="row" aria-rowindex="1">
        <div class="left" role="columnheader">
          <div class="title">
            <b>Route</b
            ><small>{{
              rows.length === count ? `${count} routes by prefix` : `${rows.length} of ${count} routes`
            }}</small>
          </div>
          <span class="grip" aria-hidden="true" title="Drag to widen" @pointerdown.prevent="drag"></span>
        </div>
        <div
          v-for="(h, c) in heads"
          :key="h.key + h.folded"
          class="col"
          :class="{ lit: (hovered ?? at).c === c && (focused || hovered) }"
          role="columnheader"
          :aria-colindex="c + 2"
        >
          <button
            v-if="h.folded || editing"
            class="bare"
            :title="
              editing
                ? `Select every crossing of ${h.label}`
                : `${h.columns.length} identities that the declaration cannot tell apart; click to open`
            "
            tabindex="-1"
            @click="colHead(h)"
          >
            <b>{{ h.label }}</b><small>{{ h.sub }}</small>
          </button>
          <div v-else :title="h.title ?? `${h.label}, ${h.sub}`">
            <b>{{ h.label }}</b><small>{{ h.sub }}</small>
          </div>
        </div>
      </div>
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
.head {
  position: sticky;
  top: 0;
  z-index: 3;
  display: flex;
  height: 45px;
  background: var(--sheet);
  border-bottom: 1px solid var(--line);
}
.left {
  position: sticky;
  left: 0;
  z-index: 2;
  flex: none;
  display: flex;
  align-items: center;
  width: calc(12px + 58px + var(--route) + 90px);
  padding-left: 12px;
  background: var(--sheet);
}
.head .left {
  align-items: end;
  padding-bottom: 6px;
  z-index: 4;
}
.title b,
.col b {
  display: block;
  font-weight: 600;
  line-height: 15px;
  font-size: 13px;
}
small {
  display: block;
  font-size: 11px;
  line-height: 12px;
  color: var(--faint);
}
.grip {
  position: absolute;
  left: calc(68px + var(--route));
  top: 6px;
  bottom: 6px;
  width: 7px;
  cursor: col-resize;
  border-left: 1px solid var(--line);
}
.col {
  flex: none;
  width: var(--cell);
  display: flex;
  align-items: end;
  justify-content: center;
  text-align: center;
  padding-bottom: 6px;
  overflow: hidden;
}
.col b {
  font-size: min(13px, calc(var(--cell) * 0.215));
}
.narrow .col b {
  font-size: 13px;
}
.col b,
.col small {
  overflow: hidden;
  text-overflow: ellipsis;
}
.col > * {
  max-width: 100%;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  text-align: center;
}
.col.lit {
  background: var(--mill-soft);
}
.narrow .col > * {
  writing-mode: vertical-rl;
  transform: rotate(180deg);
  text-align: left;
  max-height: 100%;
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
