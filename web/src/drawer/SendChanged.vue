<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { storeToRefs } from 'pinia'
import { computed, ref, watch } from 'vue'
import { api, ask, type Probe, type Sent } from '../api/client'
import { useAsk } from '../composables/useAsk'
import { useSweep } from '../stores/sweep'
import { useWorkspace } from '../stores/workspace'
import ExchangeView from './ExchangeView.vue'
import { headersIn, unreadable } from './headers'

// The request of a probe, changed by hand and sent beside it: as somebody else, with other header
// fields or another body. It belongs to no sweep.
const props = defineProps<{ probe: Probe; caller: string }>()
const { target } = storeToRefs(useWorkspace())
const { running } = storeToRefs(useSweep())
const { busy, run } = useAsk()

const as = ref('')
const fields = ref('')
const body = ref('')
const sent = ref<Sent | null>(null)
const first = computed(() => props.probe.exchange ?? props.probe.steps?.find((s) => s.exchange)?.exchange)
// What is masked cannot be sent as it stands: it stays as it was unless somebody writes another.
const was = computed(() => (first.value && !first.value.body.includes('‹') ? first.value.body : ''))
watch(
  () => props.probe.id,
  () => {
    as.value = fields.value = ''
    body.value = was.value
    sent.value = null
  },
  { immediate: true },
)
const bad = computed(() => unreadable(fields.value))
async function send() {
  await run(async () => {
    sent.value = null
    sent.value = await ask(
      api.POST('/api/send', {
        body: {
          target: target.value,
          probe: props.probe.id,
          as: as.value.trim() || undefined,
          headers: headersIn(fields.value),
          body: body.value === was.value ? undefined : body.value,
        },
      }),
    )
  })
}
</script>

<template>
  <section>
    <details>
      <summary>Change it and send it by itself</summary>
      <form @submit.prevent="send">
        <label>
          As
          <NInput
            v-model:value="as"
            size="small"
            :placeholder="`${caller || 'nobody'}, as it was; an identity, or nobody`"
          />
        </label>
        <label>
          Header fields, one a line, beside the request's or in their place
          <NInput
            v-model:value="fields"
            class="mono"
            size="small"
            type="textarea"
            :autosize="{ minRows: 1, maxRows: 6 }"
            placeholder="accept: text/html"
          />
        </label>
        <p v-if="bad" class="bad" role="alert">“{{ bad }}” is no header field; write “name: value”.</p>
        <label>
          Body
          <NInput
            v-model:value="body"
            class="mono"
            size="small"
            type="textarea"
            :autosize="{ minRows: 1, maxRows: 10 }"
            :placeholder="first?.body ? 'as it was; a secret stands in it' : 'none'"
          />
        </label>
        <NButton attr-type="submit" size="small" :loading="busy" :disabled="!!bad || !!running"
          >Send it to {{ target }}</NButton
        >
        <span v-if="running" class="faint">once the sweep has ended</span>
      </form>
      <div v-if="sent" class="came" role="status">
        <p>
          <b :class="sent.agrees ? 'good' : 'bad'">{{ sent.exchange.status || 'No answer' }}</b>
          {{ sent.agrees ? 'is what is declared' : 'is not what is declared' }}: {{ sent.expected }}.
        </p>
        <p v-if="sent.before !== undefined">
          {{
            sent.differs.length
              ? `Against the probe's own answer it differs in ${sent.differs.join('; ')}.`
              : 'The same as the probe was answered.'
          }}
        </p>
        <ExchangeView :exchange="sent.exchange" />
      </div>
    </details>
  </section>
</template>

<style scoped>
section {
  margin-bottom: 16px;
}
summary {
  cursor: pointer;
  font-weight: 600;
  padding: 2px 0;
}
form {
  display: grid;
  gap: 8px;
  margin: 6px 0;
  justify-items: start;
}
label {
  width: 100%;
}
p {
  margin: 0 0 4px;
}
.good {
  color: var(--ok);
}
.bad {
  color: var(--U);
}
</style>
