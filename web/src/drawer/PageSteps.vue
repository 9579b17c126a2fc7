<script setup lang="ts">
import { computed } from 'vue'
import type { Probe } from '../api/client'

// What a browser makes of a page's request, step by step.
const props = defineProps<{ page: NonNullable<Probe['page']>; reason: string; file: string; line: number }>()

const more = computed(() => props.page.said.filter((j) => j.text !== props.reason)) // the banner has the first

const sorts: Record<string, string> = {
  broader: 'more than declared',
  narrower: 'less than declared',
  note: 'worth knowing',
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
small {
  font-weight: 400;
  white-space: nowrap;
}
</style>
