<script setup lang="ts">
import { NButton, useMessage } from 'naive-ui'
import { computed, ref } from 'vue'
import type { Probe } from '../api/client'

// What a browser makes of a page's request, step by step.
const props = defineProps<{ page: NonNullable<Probe['page']>; reason: string; file: string; line: number }>()

const more = computed(() => props.page.said.filter((j) => j.text !== props.reason)) // the banner has the first

const sorts: Record<string, string> = {
  broader: 'more than declared',
  narrower: 'less than declared',
  note: 'worth knowing',
}
// Which way of asking is shown as a script: the one that gets furthest until another is picked.
const order = ['nothing', 'send blindly', 'read', 'read as the user']
const picked = ref<string>()
const way = computed(
  () =>
    props.page.ways.find((w) => w.asks === picked.value) ??
    props.page.ways.reduce((a, w) => (order.indexOf(w.does) > order.indexOf(a.does) ? w : a), props.page.ways[0]!),
)
const toast = useMessage()
const place = computed(() => (props.page.origin === 'null' ? 'any page' : `a page of ${props.page.origin}`))
async function copy() {
  await navigator.clipboard.writeText(way.value.script)
  toast.success(`Copied. Paste it into the console of ${place.value}.`)
}
function does(s: string) {
  return s === 'nothing' ? 'do nothing' : s
}
</script>

<template>
  <section>
    <h2>What a page there can do</h2>
    <p v-if="page.says" class="faint">{{ page.says }}</p>
    <dl class="does">
      <dt>declared</dt>
      <dd>
        {{ does(page.want) }}
        <RouterLink v-if="line" :to="{ name: 'declaration', query: { line, file } }"
          >{{ file }}, line {{ line }}</RouterLink
        >
      </dd>
      <template v-if="page.got">
        <dt>observed</dt>
        <dd :class="{ parts: page.got !== page.want }">
          {{ does(page.got)
          }}<template v-if="page.assumed">, if the answer itself permits what its preflight does</template>
        </dd>
      </template>
    </dl>
  </section>
  <section v-if="page.mends.length" class="mends">
    <h2>This page cannot do what it may. Send</h2>
    <ul class="said mono">
      <li v-for="m in page.mends" :key="m.on + m.header">
        <span class="faint">on the {{ m.on === 'answer' ? 'answer' : 'answer to the preflight' }}</span>
        {{
          m.header === 'status'
            ? `status ${m.value}, before the guard asks for a credential`
            : `${m.header}: ${m.value}`
        }}
      </li>
    </ul>
  </section>
  <section v-if="page.ways.length">
    <h2>What it can do now, however it asks</h2>
    <ul class="ways">
      <li v-for="w in page.ways" :key="w.asks">
        <button class="bare" :aria-pressed="w === way" :class="{ on: w === way }" @click="picked = w.asks">
          <span>{{ w.asks }}:</span> <b :class="{ far: w.does.startsWith('read') }">{{ w.told }}</b>
        </button>
      </li>
    </ul>
    <details>
      <summary>See it with your own eyes: a script for the console</summary>
      <pre class="mono">{{ way.script }}</pre>
      <p class="faint">It sends the request for real, from your browser. Put a credential in place of “...”.</p>
    </details>
    <NButton size="tiny" @click="copy">Copy the script</NButton>
  </section>
  <section v-if="page.steps.length">
    <h2>In the browser, step by step</h2>
    <p class="mono faint ask">{{ page.request }}</p>
    <ol class="steps">
      <li v-for="(s, i) in page.steps" :key="i" :class="{ failed: s.failed }">
        <span class="name">{{ s.name }}</span>
        <span>
          <span class="visually-hidden">{{ s.failed ? 'blocked: ' : '' }}</span>{{ s.text }}
          <small class="faint" :title="`Fetch standard, section ${s.section}`">§ {{ s.section }}</small>
        </span>
      </li>
    </ol>
  </section>
  <section v-if="more.length">
    <h2>Said about the permission</h2>
    <ul class="said">
      <li v-for="j in more" :key="j.id">
        <b>{{ sorts[j.sort] }}{{ j.minor ? ', a little' : '' }}</b> {{ j.text }}
      </li>
    </ul>
  </section>
</template>

<style scoped>
section {
  margin-bottom: 16px;
}
p {
  margin: 0 0 4px;
}
.does {
  display: grid;
  grid-template-columns: 78px 1fr;
  margin: 0;
  row-gap: 2px;
}
dt {
  color: var(--faint);
}
dd {
  margin: 0;
}
dd a {
  margin-left: 6px;
  font-size: 12px;
}
.parts {
  font-weight: 600;
}
.ask {
  margin: 0 0 4px;
}
.steps,
.said {
  list-style: none;
  margin: 0 -10px;
  padding: 0;
}
.steps li {
  display: grid;
  grid-template-columns: 78px 1fr;
  padding: 2px 10px;
  overflow-wrap: anywhere;
}
.steps .name {
  color: var(--faint);
}
.steps .failed {
  background: var(--soft, var(--mill-soft));
  font-weight: 600;
  padding-top: 5px;
  padding-bottom: 5px;
}
.steps .failed .name {
  color: var(--ink);
}
.said li {
  padding: 2px 10px;
}
.ways {
  list-style: none;
  margin: 0 -10px 4px;
  padding: 0;
}
.ways button {
  display: block;
  width: 100%;
  text-align: left;
  padding: 3px 10px;
  overflow-wrap: anywhere;
}
.ways button:hover {
  background: var(--mill-soft);
}
.ways .on {
  box-shadow: inset 3px 0 var(--mill);
}
.ways b {
  font-weight: 400;
  color: var(--faint);
}
.ways .far {
  color: var(--ink);
  font-weight: 600;
}
.mends li span {
  display: block;
}
summary {
  cursor: pointer;
  padding: 2px 0;
}
pre {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  margin: 4px 0;
  padding: 8px 10px;
  background: var(--mill-soft);
}
small {
  font-weight: 400;
  white-space: nowrap;
}
</style>
