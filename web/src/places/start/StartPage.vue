<script setup lang="ts">
import { NButton, useMessage } from 'naive-ui'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, message } from '../../api/client'
import ImportPlace from '../import/ImportPlace.vue'
import { useWorkspace } from '../../stores/workspace'
import { usePending } from '../../stores/pending'

const { refresh } = useWorkspace()
const { put } = usePending()

const toast = useMessage()
const router = useRouter()
const busy = ref(false)
const begun = ref(false)

async function demo() {
  busy.value = true
  try {
    await ask(api.POST('/api/demo'))
    await refresh()
  } catch (e) {
    toast.error(message(e))
  } finally {
    busy.value = false
  }
}
const first = `millgate: 1.1
title: My service

targets:
  staging:
    base: https://staging.example
    pace: 5 per 1s

routes:
  - GET /healthz

access:
  - { at: GET /healthz, who: anyone }
`
function empty() {
  put('Begin', first)
  void router.push({ name: 'declaration' })
}
</script>

<template>
  <div class="place start">
    <div class="col">
      <ImportPlace embedded @begun="(b) => (begun = b)" />
      <section v-if="!begun" class="third">
        <h2>Or show how it is called</h2>
        <p class="faint">
          Paste requests that work, as a browser copies them: routes, the login and its callers are read out of them.
        </p>
        <NButton @click="router.push({ name: 'callers', query: { example: '1' } })">By example</NButton>
      </section>
      <section v-if="!begun" class="third">
        <h2>Or begin with an empty declaration</h2>
        <NButton @click="empty">Write it yourself</NButton>
      </section>
    </div>
    <aside v-if="!begun" class="sheet demo">
      <h1>Open the demo</h1>
      <p>
        A made-up observatory that shares telescope time: fifty routes, eight callers, and a service with eighteen
        things wrong. It runs on this machine only.
      </p>
      <NButton type="primary" :loading="busy" @click="demo">Open the demo</NButton>
    </aside>
  </div>
</template>

<style scoped>
.start {
  display: flex;
  gap: 32px;
  padding-top: 40px;
}
.col {
  flex: 1;
  min-width: 0;
}
.demo {
  width: 280px;
  padding: 18px 20px;
  align-self: start;
}
.third {
  margin-top: 20px;
}
h2 {
  color: var(--ink);
}
</style>
