<script setup lang="ts">
import type { EditorView } from '@codemirror/view'
import { NButton, NInput, useMessage } from 'naive-ui'
import { computed, nextTick, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, message, type Declaration, type Effect, type Message, type Revision } from '../../api/client'
import { ago, exact, useNow } from '../../parts/time'
import { refresh, version } from '../../state/workspace'
import { goTo, makeEditor, setText, showMessages } from './editor'
import { clearDraft, draft, keepDraft } from './draft'

const url = useRoute()
const toast = useMessage()
const now = useNow()
const box = ref<HTMLElement | null>(null)
const view = shallowRef<EditorView | null>(null)
const kept = shallowRef<Declaration | null>(null)
const text = ref('')
const effect = shallowRef<Effect | null>(null)
const note = ref('')
const error = ref('')
const busy = ref(false)
const checking = ref(false)
const revisions = ref<Revision[]>([])
const showing = ref<'effect' | 'revisions'>('effect')

const changed = computed(() => kept.value !== null && text.value !== kept.value.text)
const messages = computed<Message[]>(() => effect.value?.messages ?? kept.value?.messages ?? [])
const errors = computed(() => messages.value.filter((m) => m.level === 'error').length)

async function load() {
  try {
    const d = await ask(api.GET('/api/declaration'))
    kept.value = d
    error.value = ''
    const d0 = draft()
    const start = d0 && d0.base === d.revision ? d0.text : d.text
    if (d0 && d0.base !== d.revision && d0.text !== d.text) {
      toast.warning(
        `Another revision was kept since you began. Your text is here; revision ${d.revision} is in the list of revisions.`,
      )
    }
    text.value = d0 ? d0.text : start
    await nextTick()
    if (box.value && !view.value) view.value = makeEditor(box.value, text.value, typed, () => void keep())
    else if (view.value && view.value.state.doc.toString() !== text.value) setText(view.value, text.value)
    show()
    if (changed.value) check()
    jump()
    revisions.value = await ask(api.GET('/api/revisions'))
  } catch (e) {
    error.value = message(e)
  }
}
onMounted(load)
onBeforeUnmount(() => view.value?.destroy())

function jump() {
  const line = Number(url.query.line ?? 0)
  if (line && view.value && kept.value) {
    if (url.query.file && url.query.file !== kept.value.name)
      toast.info(`Line ${line} is in ${String(url.query.file)}, which is imported here.`)
    else goTo(view.value, line)
  }
}
watch(() => url.query.line, jump)

// Somebody else kept a revision, for example from the Targets place.
watch(version, async () => {
  if (!kept.value || busy.value) return
  const d = await ask(api.GET('/api/declaration'))
  if (d.revision !== kept.value.revision && !changed.value) void load()
})

let timer = 0
function typed(t: string) {
  text.value = t
  if (kept.value) keepDraft(t, kept.value.revision)
  clearTimeout(timer)
  timer = window.setTimeout(check, 250)
}
let turn = 0
async function check() {
  if (!kept.value) return
  if (!changed.value) {
    effect.value = null
    clearDraft()
    show()
    return
  }
  const mine = ++turn
  checking.value = true
  try {
    const e = await ask(api.POST('/api/declaration/check', { body: { text: text.value } }))
    if (mine !== turn) return
    effect.value = e
    error.value = ''
    show()
  } catch (e) {
    error.value = message(e)
  } finally {
    if (mine === turn) checking.value = false
  }
}
function show() {
  if (view.value && kept.value) showMessages(view.value, kept.value.name, messages.value)
}
async function keep() {
  if (!kept.value || !changed.value || busy.value) return
  busy.value = true
  try {
    kept.value = await ask(
      api.PUT('/api/declaration', { body: { text: text.value, message: note.value, base: kept.value.revision } }),
    )
    note.value = ''
    effect.value = null
    clearDraft()
    show()
    toast.success(`Kept as revision ${kept.value.revision}.`)
    revisions.value = await ask(api.GET('/api/revisions'))
    void refresh()
  } catch (e) {
    toast.error(message(e))
  } finally {
    busy.value = false
  }
}
function drop() {
  if (!kept.value || !view.value) return
  setText(view.value, kept.value.text) // undo brings the text back
  void check()
}
async function bring(r: Revision) {
  try {
    const t = await ask(api.GET('/api/revisions/{id}', { params: { path: { id: r.id } } }))
    if (view.value) setText(view.value, t.text)
    note.value = `Restore revision ${r.id}`
    showing.value = 'effect'
  } catch (e) {
    toast.error(message(e))
  }
}
function summary(e: Effect): string {
  if (!e.total && !e.added && !e.gone) return 'No crossing changes.'
  const parts = []
  if (e.closes) parts.push(`${e.closes} close`)
  if (e.opens) parts.push(`${e.opens} open`)
  if (e.other) parts.push(`${e.other} are refused another way`)
  let s = `${e.total} ${e.total === 1 ? 'crossing changes' : 'crossings change'}${parts.length ? ': ' + parts.join(', ') : ''}.`
  if (e.added) s += ` ${e.added} ${e.added === 1 ? 'route is' : 'routes are'} new.`
  if (e.gone) s += ` ${e.gone} ${e.gone === 1 ? 'route goes' : 'routes go'}.`
  return s
}
</script>

<template>
  <div class="two">
    <section class="text" aria-label="Text">
      <div class="bar">
        <b class="mono">{{ kept?.name }}</b>
        <span class="faint">{{
          changed ? 'changed, not kept yet' : kept ? `revision ${kept.revision}, kept ${ago(kept.keptAt, now)}` : ''
        }}</span>
      </div>
      <div ref="box" class="editor"></div>
    </section>
    <aside class="side" aria-label="What it means">
      <p v-if="error" class="bad">{{ error }}</p>
      <div class="tabs" role="tablist">
        <button class="bare" role="tab" :aria-selected="showing === 'effect'" @click="showing = 'effect'">
          Messages and effect
        </button>
        <button class="bare" role="tab" :aria-selected="showing === 'revisions'" @click="showing = 'revisions'">
          Revisions
        </button>
      </div>
      <div v-if="showing === 'effect'" class="scroll">
        <h2>Review</h2>
        <p v-if="!messages.length" class="fine">Nothing to say about it.</p>
        <button
          v-for="(m, i) in messages"
          :key="i"
          class="bare msg"
          :class="m.level"
          @click="view && kept && m.file === kept.name && goTo(view, m.line)"
        >
          <span class="mono at">{{ m.file === kept?.name ? `line ${m.line}` : m.file }}</span>
          <span
            ><b>{{ m.level }}</b
            >: {{ m.text }} <span v-if="m.hint" class="faint">{{ m.hint }}</span></span
          >
        </button>
        <template v-if="changed">
          <h2 class="gap">What changes on the board</h2>
          <p v-if="errors" class="faint">It can be said when the errors are mended.</p>
          <template v-else-if="effect">
            <p>
              <b>{{ summary(effect) }}</b>
            </p>
            <ul class="changes">
              <li v-for="(c, i) in effect.changes" :key="i">
                <span class="sign" :class="c.opens ? 'opens' : 'closes'" :title="c.opens ? 'opens' : 'closes'">{{
                  c.opens ? '↑' : '↓'
                }}</span>
                <span
                  >{{ c.caller || 'nobody' }} at <span class="mono">{{ c.route }}</span>
                  <span class="faint"> {{ c.from }} → {{ c.to }}</span></span
                >
              </li>
            </ul>
            <p v-if="effect.total > effect.changes.length" class="faint">
              and {{ effect.total - effect.changes.length }} more
            </p>
          </template>
          <p v-else-if="checking" class="faint">Working it out …</p>
        </template>
      </div>
      <div v-else class="scroll">
        <p v-for="r in revisions" :key="r.id" class="rev">
          <span
            ><b>{{ r.id }}</b> {{ r.message }}
            <span class="faint" :title="exact(r.at)">{{ ago(r.at, now) }}</span></span
          >
          <button v-if="r.id !== kept?.revision" class="bare link" @click="bring(r)">Put into the editor</button>
          <span v-else class="faint">current</span>
        </p>
      </div>
      <div v-if="changed" class="keep">
        <NInput
          v-model:value="note"
          placeholder="What and why (optional)"
          :input-props="{ 'aria-label': 'Message of the revision' }"
          @keydown.enter="keep"
        />
        <div class="acts">
          <NButton type="primary" :disabled="errors > 0 || checking" :loading="busy" @click="keep">Keep change</NButton>
          <NButton @click="drop">Drop it</NButton>
        </div>
      </div>
    </aside>
  </div>
</template>

<style scoped>
.two {
  height: 100%;
  display: grid;
  grid-template-columns: minmax(0, 1fr) 380px;
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
.scroll {
  flex: 1;
  overflow: auto;
  padding: 12px 16px;
}
.gap {
  margin-top: 18px;
}
.msg {
  display: grid;
  grid-template-columns: 64px 1fr;
  gap: 8px;
  width: 100%;
  padding: 5px 0;
  border-bottom: 1px solid var(--hair);
}
.at {
  color: var(--faint);
  overflow: hidden;
  text-overflow: ellipsis;
}
.error b {
  color: var(--U);
}
.warning b {
  color: var(--W);
}
.changes {
  list-style: none;
  margin: 0;
  padding: 0;
}
.changes li {
  display: grid;
  grid-template-columns: 18px 1fr;
  padding: 2px 0;
}
.changes .faint {
  margin-left: 6px;
}
.sign {
  font-weight: 700;
}
.opens {
  color: var(--P);
}
.closes {
  color: var(--mill);
}
.keep {
  padding: 12px 16px;
  border-top: 1px solid var(--line);
  display: grid;
  gap: 8px;
}
.acts {
  display: flex;
  gap: 8px;
}
.rev {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  margin: 0;
  padding: 5px 0;
  border-bottom: 1px solid var(--hair);
}
.link {
  color: var(--mill);
  white-space: nowrap;
}
.fine {
  color: var(--ok);
}
.bad {
  color: var(--U);
  padding: 0 16px;
}
p {
  margin: 0 0 8px;
}
</style>
