<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, nextTick, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { Row } from '../api/client'
import { isGap, kindName } from '../theme/kinds'
import type { Head, Lens } from './lens'

const props = defineProps<{
  rows: Row[]
  heads: Head[]
  lens: Lens
  count: number
  selected: { route: string; caller: string } | null
  second: { route: string; caller: string } | null
  hint: string
}>()
const emit = defineEmits<{
  open: [row: Row, head: Head, also: boolean]
  focus: [row: Row | null, head: Head | null]
  unfold: [head: Head]
  up: []
}>()

type Item = { group: string } | { row: Row; index: number }
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
const headHeight = computed(() => (narrow.value ? 92 : 45))

const virtual = useVirtualizer(
  computed(() => ({
    count: items.value.length,
    getScrollElement: () => scroller.value,
    estimateSize: (i: number) => ('group' in (items.value[i] as Item) ? 22 : 25),
    overscan: 12,
    // The heads stay on top of the rows.
    scrollMargin: headHeight.value,
    scrollPaddingStart: headHeight.value,
    getItemKey: (i: number) => {
      const it = items.value[i] as Item
      return 'group' in it ? `g${it.group}` : it.row.key
    },
  })),
)

// The column for paths can be widened; a path loses its middle, never its end.
const chars = computed(() => Math.max(8, Math.floor((routeWidth.value - 8) / 7.6)))
function shorten(row: Row): string {
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
  } else if (e.key === 'Enter' && current.value.row && current.value.head) {
    e.preventDefault()
    emit('open', current.value.row, current.value.head, e.shiftKey)
  }
}
function click(r: number, c: number, e: MouseEvent) {
  at.value = { r, c }
  const row = props.rows[r]
  const head = props.heads[c]
  if (row && head) emit('open', row, head, e.shiftKey)
}
function over(r: number, c: number) {
  const row = props.rows[r]
  const head = props.heads[c]
  hovered.value = { r, c }
  if (row && head) emit('focus', row, head)
}
const hovered = ref<{ r: number; c: number } | null>(null)
function out() {
  hovered.value = null
  emit('focus', current.value.row, current.value.head)
}

const symbols: Record<string, string> = {
  a: '#gate-open',
  d: '#gate-some',
  r: '#gate-shut',
  f: '#gate-shut',
  h: '#gate-shut',
  c: '#gate-shut',
}
function say(row: Row, head: Head): string {
  const c = props.lens.cell(row, head)
  const v: Record<string, string> = { '=': 'agrees', '?': 'unproven', '.': 'not probed yet' }
  return `${head.label}, ${row.key}: expected ${props.lens.expectation(c.expect)}; ${v[c.verdict] ?? kindName(c.verdict)}${c.inferred ? ', inferred' : ''}`
}
const dots: Record<string, string> = { low: '·', medium: '··', high: '···' }
function is(p: { route: string; caller: string } | null, row: Row, head: Head) {
  return !!p && p.route === row.key && p.caller === head.key
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
    :aria-activedescendant="rows.length ? id(at.r, at.c) : undefined"
    aria-label="Routes by callers"
    @keydown="onKey"
    @focus="focused = true"
    @blur="focused = false"
    @mouseleave="out"
  >
    <div
      class="inner"
      :style="{ '--cell': `${cell}px`, '--route': `${routeWidth}px`, minWidth: `${fixed + heads.length * cell}px` }"
    >
      <div class="head" :class="{ narrow }" role="row" aria-rowindex="1">
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
            v-if="h.folded"
            class="bare"
            :title="`${h.columns.length} identities that the declaration cannot tell apart; click to open`"
            tabindex="-1"
            @click="emit('unfold', h)"
          >
            <b>{{ h.label }}</b><small>{{ h.sub }}</small>
          </button>
          <div v-else :title="`${h.label}, ${h.sub}`">
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
          </div>
          <div
            v-else
            class="row"
            :class="{ stray: !(items[v.index] as { row: Row }).row.declared }"
            role="row"
            :aria-rowindex="(items[v.index] as { index: number }).index + 2"
            :style="{ transform: `translateY(${v.start - headHeight}px)` }"
          >
            <template v-for="it in [items[v.index] as { row: Row; index: number }]" :key="it.row.key">
              <div class="left" role="rowheader" :title="`${it.row.key}${it.row.summary ? ': ' + it.row.summary : ''}`">
                <span class="method mono">{{ it.row.method }}</span>
                <span class="path mono">{{ shorten(it.row) }}</span>
                <span class="effect">{{ it.row.effect }}</span>
                <span
                  class="sens"
                  :title="`${it.row.sensitivity} sensitivity`"
                  :aria-label="`${it.row.sensitivity} sensitivity`"
                  role="img"
                  >{{ dots[it.row.sensitivity] }}</span
                >
                <span
                  class="worst"
                  :class="it.row.worst && `k-${it.row.worst}`"
                  :title="it.row.worst && `worst on this route: ${kindName(it.row.worst)}`"
                  >{{ it.row.worst }}</span
                >
              </div>
              <div
                v-for="(h, c) in heads"
                :id="id(it.index, c)"
                :key="h.key + h.folded"
                class="cell"
                :class="{
                  at: focused && at.r === it.index && at.c === c,
                  sel: is(selected, it.row, h),
                  second: is(second, it.row, h),
                }"
                role="gridcell"
                :aria-colindex="c + 2"
                :aria-selected="is(selected, it.row, h)"
                :aria-label="say(it.row, h)"
                :title="hovered && hovered.r === it.index && hovered.c === c ? hint : undefined"
                @click="click(it.index, c, $event)"
                @mouseenter="over(it.index, c)"
              >
                <template v-for="k in [lens.cell(it.row, h)]" :key="k.verdict">
                  <span v-if="isGap(k.verdict)" class="kind" :class="[`k-${k.verdict}`, { inferred: k.inferred }]">{{
                    k.verdict
                  }}</span>
                  <span
                    v-else
                    class="gate"
                    :class="{
                      hatched: k.verdict === '?',
                      dotted: k.verdict === '=' && !k.inferred,
                      ring: k.verdict === '=' && k.inferred,
                    }"
                  >
                    <svg v-if="it.row.declared" width="20" height="20" aria-hidden="true">
                      <use :href="symbols[k.expect]" />
                    </svg>
                  </span>
                </template>
              </div>
            </template>
          </div>
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
.head.narrow {
  height: 92px;
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
  max-height: 82px;
}
.group,
.row {
  position: absolute;
  inset: 0 0 auto 0;
  display: flex;
}
.group {
  height: 22px;
  background: var(--ground);
  border-bottom: 1px solid var(--hair);
}
.group span {
  position: sticky;
  left: 0;
  padding: 2px 12px;
  font-weight: 600;
  color: var(--faint);
}
.row {
  height: 25px;
  border-bottom: 1px solid var(--hair);
}
.row:hover,
.row:hover .left {
  background: color-mix(in srgb, var(--mill-soft) 45%, var(--sheet));
}
.method {
  width: 58px;
  flex: none;
}
.path {
  width: var(--route);
  flex: none;
  white-space: nowrap;
  overflow: hidden;
}
.effect {
  width: 58px;
  flex: none;
  font-size: 12px;
  color: var(--faint);
}
.sens {
  width: 18px;
  flex: none;
  letter-spacing: -1px;
  font-weight: 700;
  color: var(--faint);
}
.worst {
  width: 14px;
  text-align: center;
  font: 650 12px/16px var(--mono);
  color: var(--c, transparent);
}
.cell {
  flex: none;
  width: var(--cell);
  display: grid;
  place-items: center;
  cursor: pointer;
}
.gate {
  position: relative;
  display: grid;
  place-items: center;
  width: 24px;
  height: 24px;
  color: var(--mark);
  fill: none;
}
.gate svg {
  margin-top: -4px;
}
.dotted::after,
.ring::after {
  content: '';
  position: absolute;
  bottom: 2px;
  width: 3px;
  height: 3px;
  border-radius: 50%;
  background: var(--mark);
}
.ring::after {
  background: none;
  border: 1px solid var(--mark);
}
.hatched {
  background: repeating-linear-gradient(
    135deg,
    transparent 0 3px,
    color-mix(in srgb, var(--mark) 40%, transparent) 3px 4.5px
  );
  border-radius: 4px;
  height: 20px;
}
.inferred {
  background: color-mix(in srgb, var(--c) 22%, transparent);
  color: var(--c);
  box-shadow: inset 0 0 0 1px var(--c);
}
.cell.at > *,
.cell.sel > * {
  outline: 2px solid var(--mill);
  outline-offset: 1px;
  border-radius: 4px;
}
.cell.second > * {
  outline: 2px dashed var(--mill);
  outline-offset: 1px;
  border-radius: 4px;
}
</style>
