<script setup lang="ts">
import { X } from '@lucide/vue'
import { NButton, NInput, useMessage } from 'naive-ui'
import { ref, watch } from 'vue'
import { api, ask, message, type Unfair } from '../api/client'
import { useWorkspace } from '../stores/workspace'
import { useSweep } from '../stores/sweep'
import { storeToRefs } from 'pinia'

const { target, version } = storeToRefs(useWorkspace())
const { running } = storeToRefs(useSweep())

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

const edited = ref<Record<string, string>>({})
const busy = ref('')

/** Keeps a changed sample first, then sends this control alone. */
async function retry(u: Unfair) {
  busy.value = u.route
  try {
    const body = edited.value[u.route]
    if (body !== undefined && body !== u.body) {
      await ask(api.PUT('/api/samples', { body: { route: u.route, body } }))
      delete edited.value[u.route]
    }
    await ask(
      api.POST('/api/probe-again', {
        body: { target: target.value, crossings: [{ route: u.route, caller: u.caller }] },
      }),
    )
  } catch (e) {
    toast.error(message(e))
  } finally {
    busy.value = ''
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
      <p v-if="u.mark" class="faint">
        In the service's own log: <span class="mono">{{ u.mark }}</span>
      </p>
      <pre class="mono">{{ u.complaint || 'The service says nothing more.' }}</pre>
      <template v-if="u.body || !/^(GET|HEAD|DELETE) /.test(u.route)">
        <label :for="`sample-${u.route}`" class="faint">The sample, as JSON</label>
        <NInput
          type="textarea"
          class="mono"
          placeholder="nothing is sent; write JSON here to send a body"
          :autosize="{ minRows: 2, maxRows: 10 }"
          :value="edited[u.route] ?? u.body"
          :input-props="{ id: `sample-${u.route}`, spellcheck: false }"
          @update:value="(v: string) => (edited[u.route] = v)"
        />
      </template>
      <div class="acts">
        <NButton size="small" type="primary" :disabled="!!running" :loading="busy === u.route" @click="retry(u)">{{
          edited[u.route] !== undefined && edited[u.route] !== u.body
            ? 'Keep the sample and send it'
            : 'Send this one again'
        }}</NButton>
        <RouterLink :to="{ name: 'board', query: { route: u.route, caller: u.caller || undefined } }"
          >See the evidence</RouterLink
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
  margin-top: 8px;
  display: flex;
  gap: 12px;
  align-items: center;
}
.fine {
  color: var(--ok);
}
</style>
