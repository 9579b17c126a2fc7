<script setup lang="ts">
import { computed } from 'vue'
import type { Kind } from '../api/client'
import { isGap, kindName, worst } from '../theme/kinds'
import type { Cell, Head, Lens, ShownRow } from '../lenses'

// A row changes only when something in it does, so that scrolling draws the
// rows that come and nothing else.
const props = defineProps<{
  row: ShownRow
  index: number
  path: string
  heads: Head[]
  from: number // the columns that are drawn: those in view and some beside them
  to: number
  lens: Lens
  at: number // the column in focus, -1 when it is in another row
  selected: string | null // the caller whose crossing is open
  second: string | null
  hover: number // the column under the pointer, -1 without
  hint: string
  editing: boolean
  picked: Set<string> | undefined // the callers that are selected in this row
}>()
const emit = defineEmits<{
  hit: [index: number, column: number, e: MouseEvent]
  over: [index: number, column: number]
  head: [index: number, e: MouseEvent]
}>()

const cells = computed(() => props.heads.slice(props.from, props.to).map((h) => props.lens.cell(props.row, h)))

// The worst gap of this lens, and what is worse in another.
const here = computed(() => {
  const w = worst(props.heads.map((h) => props.lens.cell(props.row, h).found))
  return isGap(w) ? w : undefined
})
const beyond = computed(() => {
  const all = props.row.worst
  return all && worst([all, here.value ?? 'agrees']) !== here.value ? all : undefined
})
const said = computed(() =>
  [
    here.value && `worst here: ${kindName(here.value)}`,
    beyond.value && `${here.value ? 'worse' : 'a gap'} in another lens: ${kindName(beyond.value)}`,
  ]
    .filter(Boolean)
    .join('; '),
)

const dots = { low: '·', medium: '··', high: '···' } as const
const words: Partial<Record<Kind, string>> = { agrees: 'agrees', unproven: 'unproven', unprobed: 'not probed yet' }

function chosen(h: Head): boolean {
  return !!props.picked && h.columns.length > 0 && props.picked.has(h.key)
}
function say(h: Head, c: Cell): string {
  const low = c.severity === 'low' ? ', a low remark' : ''
  return `${h.label}, ${props.row.key}: expected ${c.expected}; ${words[c.found] ?? kindName(c.found) + low}${c.inferred ? ', inferred' : ''}${c.pending ? ', changed by a pending edit' : ''}`
}
/** A gap fills its cell; a low remark is a mark in its corner. */
function fills(c: Cell): boolean {
  return isGap(c.found) && !c.pending && c.severity !== 'low'
}
function look(c: Cell): string {
  if (fills(c) && c.bar !== undefined && c.bar >= 0) return `bar beyond k-${c.found}`
  if (fills(c)) return `kind k-${c.found}${c.inferred ? ' inferred' : ''}`
  if (c.gate === 'nothing') return 'nothing'
  if (c.bar !== undefined)
    return `bar ${c.gate === 'uncounted' ? 'none' : ''} ${c.found === 'unproven' ? 'hatched' : ''}`
  const gate = props.row.declared ? `gate ${c.gate}` : 'gate'
  if (c.pending) return `${gate} pending`
  if (isGap(c.found)) return `${gate} corner k-${c.found}`
  if (c.found === 'unproven') return `${gate} hatched`
  if (c.found === 'agrees') return `${gate} ${c.inferred ? 'ring' : 'dot'}`
  return gate
}
/** What was seen, and where the ceiling stands: at the end, or within what goes beyond it. */
function measure(c: Cell) {
  if (c.bar === undefined || c.bar < 0) return undefined
  return { '--part': Math.min(1, c.bar), '--ceiling': c.bar > 1 ? Math.max(0.5, 1 / c.bar) : 1 }
}
function column(e: Event): number {
  const cell = (e.target as HTMLElement).closest<HTMLElement>('[data-c]')
  return cell ? Number(cell.dataset.c) : -1
}
function hit(e: MouseEvent) {
  const c = column(e)
  if (c >= 0) emit('hit', props.index, c, e)
}
function over(e: MouseEvent) {
  const c = column(e)
  if (c >= 0 && c !== props.hover) emit('over', props.index, c)
}
</script>

<template>
  <div class="row" role="row" :aria-rowindex="index + 2" @click="hit" @mouseover="over">
    <div
      class="left"
      :class="{ all: editing && picked && heads.every((h) => picked!.has(h.key)) }"
      role="rowheader"
      :title="`${row.key}${row.summary ? ': ' + row.summary : ''}${editing ? '. Click to select the row' : '. Click for everything said about it'}`"
      @click.stop="emit('head', index, $event)"
    >
      <span class="method mono">{{ row.method }}</span>
      <span class="path mono">{{ path }}</span>
      <span class="effect">{{ row.effect }}</span>
      <span
        class="sens"
        :title="`${row.sensitivity} sensitivity`"
        role="img"
        :aria-label="`${row.sensitivity} sensitivity`"
        >{{ dots[row.sensitivity] }}</span
      >
      <span class="worst" :class="here && `k-${here}`" :title="said || undefined"
        >{{ here }}<i v-if="beyond" class="beyond" :class="`k-${beyond}`"></i
      ></span>
    </div>
    <span v-if="from" class="gap" :style="{ width: `calc(var(--cell) * ${from})` }"></span>
    <div
      v-for="(k, n) in cells"
      :id="`cell-${index}-${from + n}`"
      :key="from + n"
      class="cell"
      :class="{
        at: at === from + n,
        sel: selected === heads[from + n]?.key,
        second: second === heads[from + n]?.key,
        picked: chosen(heads[from + n]!),
      }"
      role="gridcell"
      :data-c="from + n"
      :aria-colindex="from + n + 2"
      :aria-selected="editing ? chosen(heads[from + n]!) : selected === heads[from + n]?.key"
      :aria-label="say(heads[from + n]!, k)"
      :title="hover === from + n ? hint : undefined"
    >
      <i :class="look(k)" :style="measure(k)">{{ fills(k) ? k.found : '' }}</i>
    </div>
  </div>
</template>

<style src="./marks.css" scoped></style>

<style scoped>
.row {
  position: absolute;
  inset: 0 0 auto 0;
  display: flex;
  height: 25px;
  border-bottom: 1px solid var(--hair);
  contain: layout style;
}
.gap {
  flex: none;
}
.row:hover,
.row:hover .left {
  background: color-mix(in srgb, var(--mill-soft) 45%, var(--sheet));
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
.left {
  cursor: pointer;
}
.left:hover .path {
  text-decoration: underline;
  text-decoration-color: var(--mark);
  text-underline-offset: 3px;
}
.left.all,
.cell.picked {
  background: var(--mill-soft);
}
.cell.picked {
  box-shadow: inset 0 0 0 1px color-mix(in srgb, var(--mill) 45%, transparent);
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
  height: 16px;
  text-align: center;
  font: 650 12px/16px var(--mono);
  color: var(--c, transparent);
  position: relative;
}
.worst .beyond {
  position: absolute;
  top: 1px;
  right: -4px;
  width: 4px;
  height: 4px;
  border-radius: 1px;
  background: var(--c);
}
.cell {
  flex: none;
  width: var(--cell);
  display: grid;
  place-items: center;
  cursor: pointer;
}
.cell.at > i,
.cell.sel > i {
  outline: 2px solid var(--mill);
  outline-offset: 1px;
  border-radius: 4px;
}
.cell.second > i {
  outline: 2px dashed var(--mill);
  outline-offset: 1px;
  border-radius: 4px;
}
i.gate.pending::before {
  background: var(--mill);
}
i.gate.pending::after {
  content: '';
  position: absolute;
  right: 0;
  top: 0;
  width: 5px;
  height: 5px;
  border-radius: 50%;
  background: var(--mill);
}
</style>
