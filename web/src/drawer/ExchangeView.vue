<script setup lang="ts">
import { computed } from 'vue'
import type { Exchange } from '../api/client'

const props = defineProps<{ exchange: Exchange }>()
const path = computed(() => {
  const m = /^https?:\/\/[^/]+(.*)$/.exec(props.exchange.url)
  return m?.[1] || '/'
})
const host = computed(() => /^https?:\/\/([^/]+)/.exec(props.exchange.url)?.[1] ?? '')
const quiet = new Set(['Date', 'Content-Length'])
const headers = computed(() => props.exchange.answer.filter((h) => !quiet.has(h.name)))

function pretty(text: string): string {
  try {
    const t = JSON.stringify(JSON.parse(text), null, 2)
    return t.length < 90 ? JSON.stringify(JSON.parse(text)) : t
  } catch {
    return text
  }
}
</script>

<template>
  <div class="x">
    <pre class="mono" tabindex="0" aria-label="Request"><b>{{ exchange.method }} {{ path }}</b>
host: {{ host }}<template v-for="h in exchange.headers" :key="h.name + h.value">
{{ h.name.toLowerCase() }}: {{ h.value }}</template><template v-if="exchange.mark">
<span class="faint" title="In the service's own log it is found by this">{{ exchange.mark.toLowerCase() }}</span></template><template v-if="exchange.body">

{{ pretty(exchange.body) }}</template></pre>
    <pre
      class="mono"
      tabindex="0"
      aria-label="Answer"
    ><template v-if="exchange.status"><mark>{{ exchange.status }}</mark><template v-for="h in headers" :key="h.name + h.value">
{{ h.name.toLowerCase() }}: {{ h.value }}</template><template v-if="exchange.content">

{{ pretty(exchange.content) }}</template><template v-if="exchange.truncated">
… cut at 64 KiB</template></template><template v-else>no answer: {{ exchange.error }}</template></pre>
  </div>
</template>

<style scoped>
.x {
  display: grid;
  gap: 6px;
}
pre {
  margin: 0;
  padding: 8px 10px;
  border: 1px solid var(--line);
  border-radius: 4px;
  background: var(--ground);
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  max-height: 260px;
  overflow: auto;
}
b {
  font-weight: 600;
}
mark {
  background: var(--soft, var(--mill-soft));
  color: var(--ink);
  font-weight: 600;
  padding: 0 4px;
  margin-left: -4px;
}
</style>
