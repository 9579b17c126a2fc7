<script setup lang="ts">
import type { EditorView } from '@codemirror/view'
import { useDebounceFn } from '@vueuse/core'
import { useMessage } from 'naive-ui'
import { computed, nextTick, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, message, type Heading } from '../../api/client'
import ChangeList from '../../parts/ChangeList.vue'
import DiffText from '../../parts/DiffText.vue'
import { ago, useNow } from '../../parts/time'
import { goTo, makeEditor, setText, showMessages } from './editor'
import KeepBox from './KeepBox.vue'
import OutlineList from './OutlineList.vue'
import ReviewList from './ReviewList.vue'
import RevisionsPanel from './RevisionsPanel.vue'
import { usePending } from '../../stores/pending'

const p = usePending()

const url = useRoute()
const router = useRouter()
const toast = useMessage()
const now = useNow()
const box = ref<HTMLElement | null>(null)
const view = shallowRef<EditorView | null>(null)
const keeping = ref<InstanceType<typeof KeepBox> | null>(null)
const error = ref('')
const outline = ref<Heading[]>([])

const panels = { review: 'Review', effect: 'Effect', outline: 'Outline', revisions: 'Revisions' } as const
type Panel = keyof typeof panels
const panel = computed<Panel>({
  get: () => (String(url.query.panel ?? '') in panels ? (url.query.panel as Panel) : 'review'),
  set: (v) => void router.replace({ query: { ...url.query, panel: v, from: undefined, to: undefined } }),
})

onMounted(async () => {
  try {
    await p.load()
    await nextTick()
    if (!box.value) return
    view.value = makeEditor(box.value, p.text, typed, () => void keeping.value?.keep(), elsewhere)
    show()
    jump()
    void readOutline()
  } catch (e) {
    error.value = message(e)
  }
})
onBeforeUnmount(() => view.value?.destroy())

// How long a key takes until it is on the screen; `make bench` reads it.
function typed(t: string) {
  p.typed(t)
  requestAnimationFrame(() => {
    if (performance.getEntriesByName('millgate-key').length) {
      performance.measure('millgate-typing', 'millgate-key')
      performance.clearMarks('millgate-key')
    }
  })
}
function onKey(e: KeyboardEvent) {
  if (e.key.length > 1) return
  performance.clearMarks('millgate-key')
  performance.mark('millgate-key', { startTime: e.timeStamp })
}
// What changed elsewhere (an undo, a fix, a restore) shows in the editor.
watch(
  () => p.text,
  (t) => {
    if (view.value && view.value.state.doc.toString() !== t) setText(view.value, t)
    void outlineSoon()
  },
)
watch([() => p.messages, view], show)
const outlineSoon = useDebounceFn(readOutline, 400)
async function readOutline() {
  if (panel.value !== 'outline') return
  try {
    outline.value = await ask(api.POST('/api/declaration/outline', { body: { text: p.text } }))
  } catch {
    // The old one stays.
  }
}
watch(panel, () => void readOutline())

function show() {
  if (view.value && p.kept)
    showMessages(
      view.value,
      p.kept.name,
      p.messages.filter((m) => !m.waived),
    )
}
function go(line: number) {
  if (view.value) goTo(view.value, line)
}
function elsewhere(file: string, line: number) {
  if (file === p.kept?.name) go(line)
  else toast.info(`It is in ${file}, line ${line}, which is read in here.`)
}
function jump() {
  const line = Number(url.query.line ?? 0)
  if (line && view.value && p.kept) elsewhere(String(url.query.file ?? p.kept.name), line)
}
watch(() => [url.query.line, url.query.file], jump)

const openCount = computed(() => p.open.length)
</script>

<template>
  <div class="two">
    <section class="text" aria-label="Text">
      <div class="bar">
        <b class="mono">{{ p.kept?.name }}</b>
        <span class="faint">{{
          p.pending
            ? `${p.held.length === 1 ? '1 edit' : `${p.held.length} edits`} pending`
            : p.kept
              ? `revision ${p.kept.revision}, kept ${ago(p.kept.keptAt, now)}`
              : ''
        }}</span>
        <span class="faint keys">Ctrl+Space completes, F12 goes to where a name is declared, Ctrl+F searches</span>
      </div>
      <div ref="box" class="editor" @keydown.capture="onKey"></div>
    </section>
    <aside class="side" aria-label="What it means">
      <p v-if="error" class="bad">{{ error }}</p>
      <div class="tabs" role="tablist" aria-label="About the text">
        <button
          v-for="(label, id) in panels"
          :key="id"
          class="bare"
          role="tab"
          :aria-selected="panel === id"
          @click="panel = id"
        >
          {{ label }}<span v-if="id === 'review' && openCount" class="n">{{ openCount }}</span>
        </button>
      </div>
      <div class="scroll" role="tabpanel" tabindex="0" :aria-label="panels[panel]">
        <ReviewList v-if="panel === 'review'" :file="p.kept?.name ?? ''" @go="go" />
        <template v-else-if="panel === 'effect'">
          <p v-if="!p.pending" class="faint">Nothing is pending. What you change shows here before it is kept.</p>
          <p v-else-if="p.errors" class="faint">What it changes can be said when the errors are mended.</p>
          <template v-else-if="p.effect">
            <h2>On the board</h2>
            <ChangeList :effect="p.effect" />
            <h2 class="gap">In the text</h2>
            <DiffText :from="p.kept?.text ?? ''" :to="p.text" />
          </template>
          <p v-else class="faint">Working it out …</p>
        </template>
        <OutlineList v-else-if="panel === 'outline'" :list="outline" @go="go" />
        <RevisionsPanel v-else />
      </div>
      <KeepBox v-if="p.pending" ref="keeping" />
    </aside>
  </div>
</template>

<style scoped>
.two {
  height: 100%;
  display: grid;
  grid-template-columns: minmax(0, 1fr) 400px;
}
.text {
  min-width: 0;
  min-height: 0;
  display: flex;
  flex-direction: column;
}
.bar {
  display: flex;
  gap: 12px;
  align-items: baseline;
  padding: 8px 14px;
  border-bottom: 1px solid var(--line);
  white-space: nowrap;
  overflow: hidden;
}
.keys {
  margin-left: auto;
  font-size: 12px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.editor {
  flex: 1;
  min-height: 0;
  overflow: hidden;
}
.side {
  min-height: 0;
  display: flex;
  flex-direction: column;
  background: var(--sheet);
  border-left: 1px solid var(--line);
}
.tabs {
  display: flex;
  gap: 20px;
  padding: 0 16px;
  border-bottom: 1px solid var(--line);
}
.tabs button {
  padding: 8px 0 7px;
  color: var(--faint);
}
.tabs [aria-selected='true'] {
  color: var(--mill);
  font-weight: 600;
  box-shadow: 0 2px 0 var(--mill);
}
.n {
  margin-left: 6px;
  font-weight: 400;
  color: var(--faint);
}
.scroll {
  flex: 1;
  overflow: auto;
  padding: 12px 16px;
}
.gap {
  margin-top: 18px;
}
.bad {
  color: var(--U);
}
p {
  margin: 0 0 8px;
}
</style>
