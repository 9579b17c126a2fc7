<script setup lang="ts">
import { NButton, NCheckbox, NInput } from 'naive-ui'
import { ref } from 'vue'
import { api, ask, message, type PageJudged, type PageQuestion, type PagesJudged } from '../api/client'
import DialogCard from '../parts/DialogCard.vue'

const show = defineModel<boolean>('show', { required: true })

const form = ref({ page: '', method: 'GET', url: '', headers: '', cookies: false, preflight: '', answer: '' })
const from = ref<'paste' | 'file'>('paste')
const out = ref<PagesJudged | null>(null)
const open = ref(-1)
const error = ref('')
const busy = ref(false)
const file = ref('')

async function judge(body: PageQuestion) {
  busy.value = true
  error.value = ''
  try {
    out.value = await ask(api.POST('/api/origins/judge', { body }))
    open.value = out.value.pages.length === 1 ? 0 : -1
  } catch (e) {
    out.value = null
    error.value = message(e)
  } finally {
    busy.value = false
  }
}
async function read(e: Event) {
  const f = (e.target as HTMLInputElement).files?.[0]
  if (!f) return
  file.value = f.name
  await judge({ har: await f.text() })
}
function does(p: PageJudged) {
  if (!p.known) return 'not known: an answer is missing'
  return p.does === 'nothing' ? 'do nothing' : p.does
}
</script>

<template>
  <DialogCard v-model:show="show" title="Judge answers to a page" :width="820">
    <p class="faint">
      What a browser makes of answers that you have, without a target. Nothing is sent; what the declaration says is
      held beside it where the inventory has the route.
    </p>
    <div class="from" role="group" aria-label="Where the answers come from">
      <button class="bare" :class="{ on: from === 'paste' }" :aria-pressed="from === 'paste'" @click="from = 'paste'">
        Paste one
      </button>
      <button class="bare" :class="{ on: from === 'file' }" :aria-pressed="from === 'file'" @click="from = 'file'">
        A recording (HAR)
      </button>
    </div>
    <form v-if="from === 'paste'" class="form" @submit.prevent="judge(form)">
      <label
        >Page<NInput v-model:value="form.page" size="small" class="mono" placeholder="https://app.example or null"
      /></label>
      <label class="short">Method<NInput v-model:value="form.method" size="small" class="mono" /></label>
      <label
        >Service’s URL<NInput
          v-model:value="form.url"
          size="small"
          class="mono"
          placeholder="https://api.example/v1/things"
      /></label>
      <label class="wide"
        >Header fields that the page’s script sets, one on a line
        <NInput
          v-model:value="form.headers"
          type="textarea"
          :rows="2"
          size="small"
          class="mono"
          placeholder="content-type: application/json"
      /></label>
      <label class="half"
        >Head of the answer to the preflight
        <NInput
          v-model:value="form.preflight"
          type="textarea"
          :rows="6"
          size="small"
          class="mono"
          placeholder="HTTP/1.1 204&#10;access-control-allow-origin: *"
      /></label>
      <label class="half"
        >Head of the answer to the request
        <NInput
          v-model:value="form.answer"
          type="textarea"
          :rows="6"
          size="small"
          class="mono"
          placeholder="HTTP/1.1 200&#10;access-control-allow-origin: *"
      /></label>
      <div class="go">
        <NButton type="primary" size="small" attr-type="submit" :loading="busy">Judge</NButton>
        <NCheckbox v-model:checked="form.cookies">the user’s cookies go with it</NCheckbox>
      </div>
    </form>
    <p v-else>
      <input type="file" accept=".har,application/json" aria-label="A HAR archive" @change="read" />
      <span class="faint"> Cookies and credentials in it are not looked at, and nothing of it is kept.</span>
    </p>
    <p v-if="error" class="error" role="alert">{{ error }}</p>
    <section v-if="out" class="out" aria-live="polite">
      <p v-if="!out.pages.length">
        No request in {{ file || 'it' }} comes from a page of another origin, so there is nothing to permit.
      </p>
      <p v-for="p in out.problems" :key="p" class="faint">{{ p }}</p>
      <ul>
        <li v-for="(p, i) in out.pages" :key="i">
          <button class="bare line" :aria-expanded="open === i" @click="open = open === i ? -1 : i">
            <span class="mono">{{ p.page }}</span>
            <span class="mono url">{{ p.request.split(' ')[1] }} {{ p.url }}</span>
            <b :class="{ parts: p.want && p.known && p.want !== p.does }">{{ does(p) }}</b>
            <span class="faint">{{ p.want ? `declared: ${p.want}` : 'not in the inventory' }}</span>
          </button>
          <div v-if="open === i" class="more">
            <ol>
              <li v-for="(s, k) in p.steps" :key="k" :class="{ failed: s.failed }">
                <span class="faint">{{ s.name }}</span> <span>{{ s.text }}</span>
              </li>
            </ol>
            <p v-if="p.browser">{{ p.browser }}.</p>
            <p v-for="j in p.said" :key="j.id">{{ j.text }}</p>
          </div>
        </li>
      </ul>
    </section>
  </DialogCard>
</template>

<style scoped>
.from {
  display: flex;
  gap: 14px;
  margin: 8px 0;
}
.from button {
  color: var(--faint);
  padding-bottom: 2px;
}
.from .on {
  color: var(--mill);
  font-weight: 600;
  border-bottom: 2px solid var(--mill);
}
.form {
  display: grid;
  grid-template-columns: 1fr 90px 1fr;
  gap: 8px 12px;
}
label {
  font-size: 12px;
  color: var(--faint);
}
.wide {
  grid-column: 1 / -1;
}
.half {
  grid-column: span 1;
}
.half:first-of-type {
  grid-column: 1 / 2;
}
.half + .half {
  grid-column: 2 / -1;
}
.go {
  grid-column: 1 / -1;
  display: flex;
  gap: 14px;
  align-items: center;
}
.error {
  color: var(--U);
}
.out {
  margin-top: 10px;
  max-height: 280px;
  overflow: auto;
}
ul,
ol {
  list-style: none;
  margin: 0;
  padding: 0;
}
.line {
  display: grid;
  grid-template-columns: 210px minmax(0, 1fr) 150px 150px;
  gap: 10px;
  width: 100%;
  text-align: left;
  padding: 3px 0;
  border-bottom: 1px solid var(--hair);
}
.url,
.line > span {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.more {
  padding: 6px 0 10px;
}
.more ol li {
  display: grid;
  grid-template-columns: 78px 1fr;
}
.failed {
  font-weight: 600;
}
.parts {
  color: var(--P);
}
</style>
