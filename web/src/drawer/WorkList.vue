<script setup lang="ts">
import { X } from '@lucide/vue'
import { NButton, useMessage } from 'naive-ui'
import { ref, watch } from 'vue'
import { api, ask, message, type Unfair } from '../api/client'
import { running, target, version } from '../state/workspace'

const emit = defineEmits<{ close: [] }>()
const toast = useMessage()
const list = ref<Unfair[]>([])
const error = ref('')

watch(
  version,
  async () => {
    try {
      list.value = await ask(api.GET('/api/worklist', { params: { query: { target: target.value || undefined } } }))
      error.value = ''
    } catch (e) {
      error.value = message(e)
    }
  },
  { immediate: true },
)

async function retry(u: Unfair) {
  try {
    await ask(
      api.POST('/api/probe-again', {
        body: { target: target.value, crossings: [{ route: u.route, caller: u.caller }] },
      }),
    )
  } catch (e) {
    toast.error(message(e))
  }
}
</script>

<template>
  <aside class="drawer" aria-label="Requests that are not fair yet">
    <div class="top">
      <h1>Requests that are not fair yet</h1>
      <button class="bare" aria-label="Close the list" @click="emit('close')"><X :size="16" /></button>
    </div>
    <p class="faint">
      A control must be admitted before a refusal means anything. Read the service's own complaint, mend the sample in
      the declaration, and send that one again.
    </p>
    <p v-if="error">{{ error }}</p>
    <p v-if="!list.length && !error" class="fine">Every control that was sent is admitted.</p>
    <article v-for="u in list" :key="u.route + u.caller" class="item">
      <h2 class="mono">{{ u.route }}</h2>
      <p>
        as {{ u.caller || 'nobody' }}: <b>{{ u.status || 'no answer' }}</b><span v-if="u.waiting" class="faint"
          >, {{ u.waiting }} verdicts wait for it</span
        >
      </p>
      <pre class="mono">{{ u.complaint || 'The service says nothing more.' }}</pre>
      <template v-if="u.body"
        ><div class="faint">The sample that was sent</div>
        <pre class="mono">{{ u.body }}</pre>
      </template>
      <div class="acts">
        <NButton size="small" type="primary" :disabled="!!running" @click="retry(u)">Send this one again</NButton>
        <RouterLink :to="{ name: 'declaration', query: { line: u.line, file: u.file, sample: u.route } }"
          >Edit the sample</RouterLink
        >
      </div>
    </article>
  </aside>
</template>

<style scoped>
.drawer {
  flex: none;
  width: 440px;
  overflow: auto;
  padding: 14px 18px;
  background: var(--sheet);
  border-left: 1px solid var(--line);
  box-shadow: var(--shadow);
}
.top {
  display: flex;
  justify-content: space-between;
}
.item {
  border-top: 1px solid var(--line);
  padding: 10px 0;
}
.item h2 {
  color: var(--ink);
}
p {
  margin: 0 0 6px;
}
pre {
  margin: 0 0 6px;
  padding: 6px 8px;
  background: var(--ground);
  border: 1px solid var(--line);
  border-radius: 4px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  max-height: 160px;
  overflow: auto;
}
.acts {
  display: flex;
  gap: 12px;
  align-items: center;
}
.fine {
  color: var(--ok);
}
</style>
