<script setup lang="ts">
import { NButton } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import type { PagesLook } from '../../api/client'
import { vSays } from '../../parts/says'
import { plural } from '../../parts/words'
import PageForm from './PageForm.vue'
import { turnedPages } from './pages'

// Which pages may call, as the text has it: an entry is for some routes, and permits pages. One permission at a time is
// edited, and the grid below shows what pages could then do.
const props = defineProps<{ now: PagesLook; then: PagesLook }>()
const draft = defineModel<string>('draft', { required: true })
const emit = defineEmits<{ done: [] }>()

interface Row {
  key: string
  line: number // of the entry; 0 is one that is not there yet
  at: string[]
  was: string // the origin; '' is one that is not there yet
  members: Record<string, string>
  first: boolean // of its entry
  routes: number
  here: boolean
}
const rows = computed<Row[]>(() =>
  props.now.entries.flatMap((e) => {
    const of = { line: e.line, at: e.at, routes: e.routes, here: e.here }
    const list = e.allow.map((p) => ({ ...of, was: p.origin, members: p.members }))
    return (list.length ? list : [{ ...of, was: '', members: {} as Record<string, string> }]).map((r, i) => ({
      ...r,
      key: `${e.file}:${e.line} ${r.was}`,
      first: i === 0,
    }))
  }),
)
const blank = { was: '', members: {}, first: true, routes: 0, here: true }
const chosen = ref('')
const added = ref<Row | null>(null)
const list = computed(() => {
  const out = [...rows.value]
  const a = added.value
  if (!a) return out
  const last = a.line ? out.map((r) => r.line).lastIndexOf(a.line) : out.length - 1
  out.splice(last + 1, 0, a)
  return out
})
function open(r: Row) {
  if (!r.here) return
  added.value = null
  chosen.value = r.key
}
function add(of?: Row) {
  added.value = { ...blank, key: 'new', line: of?.line ?? 0, at: of?.at ?? [], first: !of }
  chosen.value = 'new'
}
function close() {
  added.value = null
  chosen.value = ''
}
// What was pointed at is gone once the text is another one.
watch(rows, (l) => {
  if (chosen.value !== 'new' && !l.some((r) => r.key === chosen.value)) close()
})
const turned = computed(() => turnedPages(props.then))
</script>

<template>
  <section class="bar" aria-label="Edit which pages may call">
    <div class="head">
      <b>Editing origins</b>
      <span class="faint">Choose a line. Where no entry is for a route, no page of another origin may call it.</span>
      <NButton class="end" size="small" @click="emit('done')">Done editing</NButton>
    </div>
    <div class="lines" tabindex="0">
      <table class="plain">
        <thead>
          <tr>
            <th v-says="'Routes that the entry is for; the most specific entry decides alone'" style="width: 17%">
              at
            </th>
            <th v-says="'The origin of the pages: https://name, any, or null'" style="width: 25%">page</th>
            <th v-says="'Methods that they may use; GET where none is named'">methods</th>
            <th v-says="'Header fields that their scripts may set'">may set</th>
            <th v-says="'Header fields of answers that their scripts may read'">may read</th>
            <th v-says="'Whether the user’s cookies go with it, and the answer is read'" style="width: 84px">
              cookies
            </th>
            <th v-says="'How long a browser may remember the answer to a preflight'" style="width: 76px">kept for</th>
            <td style="width: 64px"></td>
          </tr>
        </thead>
        <tbody>
          <template v-for="r in list" :key="r.key">
            <PageForm v-if="chosen === r.key" v-model:draft="draft" :row="r" @close="close" />
            <tr v-else :class="{ entry: r.first }">
              <td class="mono at">
                <template v-if="r.first"
                  >{{ r.at.join(', ') }} <span class="faint">{{ plural(r.routes, 'route') }}</span></template
                >
              </td>
              <td class="mono">
                <button v-if="r.here" class="bare link" @click="open(r)">{{ r.was || 'none' }}</button>
                <span v-else title="It stands in another file; change it there">{{ r.was || 'none' }}</span>
              </td>
              <td class="mono">{{ r.members['methods'] }}</td>
              <td class="mono">{{ r.members['headers'] }}</td>
              <td class="mono">{{ r.members['expose'] }}</td>
              <td>{{ r.members['credentials'] ? 'yes' : '' }}</td>
              <td class="mono">{{ r.members['max_age'] }}</td>
              <td class="more">
                <button v-if="r.first && r.here && r.was" class="bare link" title="Permit another page" @click="add(r)">
                  + page
                </button>
              </td>
            </tr>
          </template>
        </tbody>
      </table>
      <button class="bare link" @click="add()">+ entry</button>
    </div>
    <p v-if="then.total" class="comes" role="status">
      <b>{{ plural(then.total, 'crossing') }} would change.</b>
      <span v-for="g in turned" :key="g.says" :class="{ hostile: g.pages.every((p) => p.hostile) }">
        <span v-for="(p, i) in g.pages" :key="p.id" :title="p.hostile ? `${p.says}: ${p.origin}` : ''"
          >{{ i ? ', ' : ' ' }}{{ p.hostile ? p.id : p.origin }}</span
        >: {{ g.says }}.
      </span>
    </p>
    <p v-else-if="draft" class="comes" role="status">No page could do anything else than now.</p>
  </section>
</template>

<style scoped>
.bar {
  padding: 6px 12px;
  background: var(--mill-soft);
  border-bottom: 1px solid var(--line);
}
.head {
  display: flex;
  gap: 12px;
  align-items: center;
}
.head b {
  color: var(--mill);
}
.end {
  margin-left: auto;
}
.lines {
  max-height: 200px;
  overflow: auto;
}
table {
  width: 100%;
  table-layout: fixed;
  font-size: 13px;
}
td,
th {
  text-align: left;
  vertical-align: top;
  padding: 2px 10px 2px 0;
  overflow-wrap: break-word;
}
.entry td {
  border-top: 1px solid var(--line);
}
.more {
  white-space: nowrap;
}
.link {
  color: var(--mill);
  text-align: left;
}
.comes {
  margin: 6px 0 0;
  max-height: 64px;
  overflow: auto;
}
.hostile {
  color: var(--U);
}
</style>
