<script setup lang="ts">
import { NButton } from 'naive-ui'
import { computed, ref } from 'vue'
import { api, ask } from '../../api/client'
import { useAsk } from '../../composables/useAsk'
import { useFresh } from '../../composables/useFresh'
import { useLeft } from '../../composables/useLeft'
import ExampleRequest from './ExampleRequest.vue'
import ExampleReading from './ExampleReading.vue'

/** How a service is called, read from requests that worked. Nothing of them is kept until something is written. */
const props = defineProps<{ target: string; text: string }>()
const emit = defineEmits<{ write: [title: string, text: string, caller: string]; leave: [] }>()

const requests = ref([{ text: '', whose: '', role: '' }])
const { left, toggle } = useLeft() // proposals that are not taken
const { busy, run } = useAsk()

const brought = computed(() => requests.value.filter((r) => r.text.trim()))
const {
  found: read,
  error,
  fresh,
} = useFresh([requests, () => props.text, () => props.target], () =>
  brought.value.length
    ? ask(
        api.POST('/api/callers/example', {
          body: { target: props.target, text: props.text, requests: brought.value },
        }),
      )
    : null,
)
const taken = computed(() => read.value?.proposals.filter((p) => !left.value.has(p.id)) ?? [])

async function write() {
  await run(async () => {
    const r = await ask(
      api.POST('/api/callers/example/take', {
        body: {
          target: props.target,
          text: props.text,
          requests: brought.value,
          take: taken.value.map((p) => p.id),
        },
      }),
    )
    emit('write', r.title, r.text, taken.value.find((p) => p.kind === 'identity')?.name ?? '')
  })
}
</script>

<template>
  <form @submit.prevent="write">
    <h2>By example</h2>
    <p class="faint">
      Paste a request that works: a curl command as a browser copies it, a call of fetch, entries of a HAR, or the
      request as it goes over the wire. Best is the login and one request behind it, of two callers.
    </p>
    <ExampleRequest
      v-for="(one, k) in requests"
      :key="k"
      v-model:text="one.text"
      v-model:whose="one.whose"
      v-model:role="one.role"
      :nth="k + 1"
      :alone="requests.length === 1"
      @drop="requests.splice(k, 1)"
    />
    <NButton size="small" @click="requests.push({ text: '', whose: '', role: '' })">Add another</NButton>
    <p v-if="error" class="bad" role="alert">{{ error }}</p>
    <ExampleReading v-if="read && !error" :read="read" :left="left" @toggle="toggle" />
    <p v-if="read && !error && !read.proposals.length" class="faint">All that these say stands in the declaration.</p>
    <div class="acts">
      <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !fresh || !!error || !taken.length">
        Write {{ taken.length || '' }} {{ taken.length === 1 ? 'line' : 'lines' }}
      </NButton>
      <NButton @click="emit('leave')">Leave it</NButton>
    </div>
  </form>
</template>

<style scoped>
h2 {
  color: var(--ink);
  font-size: 16px;
}
.bad {
  color: var(--U);
}
.acts {
  display: flex;
  gap: 8px;
  margin-top: 14px;
}
</style>
