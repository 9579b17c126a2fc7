<script setup lang="ts">
import { NButton, NDropdown, useMessage } from 'naive-ui'
import { computed, onMounted, ref } from 'vue'
import { api, ask, message } from '../api/client'
import { useKeys } from '../keys/keys'
import type { Shown } from '../stores/workspace'
import RuleDialog from './RuleDialog.vue'
import { otherRecords, recordsOn } from './offered'
import { usePending } from '../stores/pending'
import { storeToRefs } from 'pinia'

const { text } = storeToRefs(usePending())
const { edit } = usePending()

// What is done to the crossings that are selected. The edits are made by the
// server, in the text; here they are only asked for.
const props = defineProps<{ board: Shown; picked: Map<string, Set<string>> }>()
const emit = defineEmits<{ clear: []; done: [] }>()
const toast = useMessage()
const busy = ref(false)
const ruling = ref(false)
const notes = ref<string[]>([])

// Records that a caller may be admitted on beside its own.
const others = ref<{ key: string; label: string }[]>([])
onMounted(async () => {
  others.value = (await otherRecords()).map((o) => ({
    key: o.label,
    label: o.detail === 'kind' ? `Records ${recordsOn(o)} only` : `Records that are ${o.label} only`,
  }))
})

const routes = computed(() => [...props.picked].filter(([, c]) => c.size).map(([r]) => r))
const count = computed(() => [...props.picked.values()].reduce((n, c) => n + c.size, 0))

/** Routes that have the same callers selected are one edit. */
function groups(): { routes: string[]; callers: string[] }[] {
  const by = new Map<string, { routes: string[]; callers: string[] }>()
  for (const [route, callers] of props.picked) {
    if (!callers.size) continue
    const list = [...callers].sort()
    const key = JSON.stringify(list)
    const g = by.get(key) ?? { routes: [], callers: list }
    g.routes.push(route)
    by.set(key, g)
  }
  return [...by.values()]
}

async function run(what: { action?: 'admit' | 'turn-away' | 'owner'; on?: string; set?: Record<string, string> }) {
  if (!count.value || busy.value) return
  busy.value = true
  notes.value = []
  try {
    const before = text.value
    const titles: string[] = []
    const list = what.set ? [{ routes: routes.value, callers: [] as string[] }] : groups()
    const made = await edit(
      async (t) => {
        for (const g of list) {
          const r = await ask(
            api.POST('/api/board/edit', { body: { text: t, routes: g.routes, callers: g.callers, ...what } }),
          )
          t = r.text
          titles.push(r.title)
          notes.value.push(...r.notes)
        }
        return { text: t }
      },
      () => (titles.length > 2 ? `${titles[0]}, and ${titles.length - 1} more` : titles.join('; ')),
    )
    if (made.text === before && !notes.value.length) notes.value = ['That is what the rules say already.']
  } catch (e) {
    toast.error(message(e), { duration: 8000 })
  } finally {
    busy.value = false
  }
}
useKeys([
  { keys: '+', says: 'admit what is selected', run: () => void run({ action: 'admit' }) },
  { keys: '-', says: 'turn away what is selected', run: () => void run({ action: 'turn-away' }) },
  { keys: 'o', says: 'own records only', run: () => void run({ action: 'owner' }) },
  { keys: 'w', says: 'write the rule of the selected routes', run: () => routes.value.length && (ruling.value = true) },
])
</script>

<template>
  <div class="bar" role="toolbar" aria-label="Edit the rules">
    <b>Editing rules</b>
    <span v-if="!count" class="faint"
      >Select crossings: click or drag cells, a route, a caller, or a group. Shift takes all between.</span
    >
    <span v-else role="status"
      >{{ count }} {{ count === 1 ? 'crossing' : 'crossings' }} of {{ routes.length }}
      {{ routes.length === 1 ? 'route' : 'routes' }}</span
    >
    <template v-if="count">
      <NButton size="small" :disabled="busy" title="The bar goes up (+)" @click="run({ action: 'admit' })">
        <svg viewBox="0 0 20 20" aria-hidden="true"><path d="M3.5 6v9M16.5 3.5v11M3.5 10L15.5 2.5" /></svg>Admit
      </NButton>
      <NButton size="small" :disabled="busy" title="The bar comes down (-)" @click="run({ action: 'turn-away' })">
        <svg viewBox="0 0 20 20" aria-hidden="true">
          <path d="M3.5 3.5v11M16.5 3.5v11" />
          <path stroke-width="4" d="M3.5 9h13" /></svg
        >Turn away
      </NButton>
      <NButton size="small" :disabled="busy" title="Up for one's own record (o)" @click="run({ action: 'owner' })">
        <svg viewBox="0 0 20 20" aria-hidden="true">
          <path d="M3.5 6v9M16.5 3.5v11" />
          <path stroke-dasharray="2.4 1.8" d="M3.5 10L15.5 2.5" /></svg
        >Own records only
      </NButton>
      <NDropdown
        v-if="others.length"
        trigger="click"
        :options="others"
        @select="(on: string) => run({ action: 'owner', on })"
      >
        <NButton size="small" :disabled="busy" title="Up for records of a group, or of the caller's own team"
          >Other records…</NButton
        >
      </NDropdown>
      <NButton size="small" :disabled="busy" title="Write the rule of these routes (w)" @click="ruling = true"
        >Write the rule…</NButton
      >
      <button class="bare link" @click="emit('clear')">Clear selection</button>
    </template>
    <span v-for="n in notes" :key="n" class="note" role="alert">{{ n }}</span>
    <NButton class="end" size="small" @click="emit('done')">Done editing</NButton>
    <RuleDialog v-model:show="ruling" :board="board" :routes="routes" @write="(set) => run({ set })" />
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px 12px;
  padding: 6px 12px;
  background: var(--mill-soft);
  border-bottom: 1px solid var(--line);
}
.bar b {
  color: var(--mill);
}
svg {
  width: 17px;
  height: 17px;
  margin-right: 5px;
  stroke: currentColor;
  fill: none;
  stroke-width: 1.6;
}
.link {
  color: var(--mill);
  text-decoration: underline;
}
.note {
  color: var(--W);
}
.end {
  margin-left: auto;
}
</style>
