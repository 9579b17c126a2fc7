<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, onMounted, ref, watch } from 'vue'
import type { FindingLine, Point } from '../../api/client'
import FindingRow from './FindingRow.vue'
import { asks } from './filter'
import type { By, Group } from './groups'

// Findings in groups. One is in focus, which keys move; some may be chosen to do something with them together.
const props = defineProps<{
  groups: Group[]
  by: By
  points: Point[]
  open: string // the id of the one whose page is open
  chosen: Set<string>
  narrow: boolean
}>()
const emit = defineEmits<{ open: [id: string]; choose: [id: string]; close: [] }>()

interface Item {
  key: string
  group?: Group
  f?: FindingLine
  index: number // among the findings
}
const items = computed<Item[]>(() => {
  let index = 0
  return props.groups.flatMap((g) => [
    { key: `g ${g.name}`, group: g, index },
    ...g.list.map((f) => ({ key: f.id, f, index: index++ })),
  ])
})
const rows = computed(() => props.groups.flatMap((g) => g.list))
const itemOfRow = computed(() => {
  const m: number[] = []
  items.value.forEach((it, i) => {
    if (it.f) m[it.index] = i
  })
  return m
})
const scroller = ref<HTMLElement | null>(null)
const virtual = useVirtualizer(
  computed(() => ({
    count: items.value.length,
    getScrollElement: () => scroller.value,
    estimateSize: (i: number) => (items.value[i]?.group ? 31 : 27),
    overscan: 8,
    getItemKey: (i: number) => items.value[i]?.key ?? i,
  })),
)
const shown = computed(() =>
  virtual.value.getVirtualItems().map((v) => ({ ...items.value[v.index]!, at: v.index + 1, y: v.start })),
)
// When the list was first on the screen; `make bench` reads it.
onMounted(() => requestAnimationFrame(() => performance.mark('millgate-findings')))

const at = ref(0)
const current = computed(() => rows.value[at.value])
watch(
  () => [props.open, rows.value] as const,
  ([id, list]) => {
    const i = list.findIndex((f) => f.id === id)
    at.value = i >= 0 ? i : Math.max(0, Math.min(at.value, list.length - 1))
  },
  { immediate: true },
)
function move(i: number) {
  if (!rows.value.length) return
  at.value = Math.max(0, Math.min(rows.value.length - 1, i))
  // The name of the first group is above its first finding.
  virtual.value.scrollToIndex(at.value === 0 ? 0 : (itemOfRow.value[at.value] ?? 0))
  if (props.open && current.value) emit('open', current.value.id)
}
/** The next finding that asks for somebody, or the one before. */
function next(step: 1 | -1) {
  const n = rows.value.length
  for (let k = 1; k <= n; k++) {
    const i = (((at.value + k * step) % n) + n) % n
    if (asks(rows.value[i]!.state)) return move(i)
  }
}
function onKey(e: KeyboardEvent) {
  const to: Record<string, number> = {
    ArrowDown: at.value + 1,
    ArrowUp: at.value - 1,
    Home: 0,
    End: rows.value.length - 1,
    PageDown: at.value + 15,
    PageUp: at.value - 15,
  }
  const f = current.value
  if (e.key in to) move(to[e.key]!)
  else if (e.key === 'Enter' && f) emit('open', f.id)
  else if (e.key === ' ' && f) emit('choose', f.id)
  else if (e.key === 'Escape') emit('close')
  else return
  e.preventDefault()
}
function click(e: MouseEvent, it: Item) {
  if (!it.f) return
  at.value = it.index
  if (e.ctrlKey || e.metaKey || e.shiftKey) emit('choose', it.f.id)
  else emit('open', it.f.id)
}
defineExpose({
  step: (by: number) => move(at.value + by),
  next,
  current: () => current.value,
  focus: () => scroller.value?.focus(),
})
</script>

<template>
  <div
    ref="scroller"
    class="list"
    role="grid"
    aria-label="Findings"
    aria-multiselectable="true"
    :aria-rowcount="items.length"
    :aria-activedescendant="current ? `finding-${current.id}` : undefined"
    tabindex="0"
    @keydown="onKey"
  >
    <div role="rowgroup" class="all" :style="{ height: `${virtual.getTotalSize()}px` }">
      <div
        v-for="it in shown"
        :id="it.f ? `finding-${it.f.id}` : undefined"
        :key="it.key"
        role="row"
        :class="
          it.f ? ['row', { narrow, on: it.f.id === open, at: it.index === at, done: !asks(it.f.state) }] : 'group'
        "
        :aria-rowindex="it.at"
        :aria-selected="it.f ? chosen.has(it.f.id) : undefined"
        :style="{ transform: `translateY(${it.y}px)` }"
        @click="(e) => click(e, it)"
      >
        <FindingRow v-if="it.f" :f="it.f" :by="by" :points="points" :narrow="narrow" :chosen="chosen.has(it.f.id)" />
        <div v-else-if="it.group" role="gridcell" class="name">
          <b :class="{ mono: it.group.mono }">{{ it.group.name }}</b> <span class="faint">{{ it.group.says }}</span>
        </div>
      </div>
    </div>
  </div>
</template>

<style scoped>
.list {
  height: 100%;
  overflow: auto;
  background: var(--sheet);
}
.list:focus-visible {
  outline: none;
}
.all {
  position: relative;
}
.group,
.row {
  position: absolute;
  top: 0;
  left: 0;
  right: 0;
}
.group {
  height: 31px;
  padding: 8px 16px 0;
  border-top: 1px solid var(--hair);
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.group b {
  font-weight: 650;
  margin-right: 6px;
}
.row {
  height: 27px;
  display: grid;
  grid-template-columns: 22px minmax(0, 3fr) 116px minmax(0, 1fr) 96px 158px;
  gap: 10px;
  align-items: center;
  padding: 0 16px;
  cursor: pointer;
}
.row.narrow {
  grid-template-columns: 22px minmax(0, 1fr) 100px 92px 150px;
}
.row:hover,
.row.on {
  background: var(--mill-soft);
}
.row.at {
  box-shadow: inset 3px 0 0 var(--mark);
}
.row.on {
  box-shadow: inset 3px 0 0 var(--mill);
}
.list:focus-visible .at {
  outline: 2px solid var(--mill);
  outline-offset: -2px;
}
.done {
  color: var(--faint);
}
</style>
