<script setup lang="ts">
import { NButton, useMessage } from 'naive-ui'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, message } from '../../api/client'
import { refresh } from '../../state/workspace'
import { keepDraft } from '../declaration/draft'
import BringRoutes from './BringRoutes.vue'

const toast = useMessage()
const router = useRouter()
const busy = ref(false)

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
const first = `millgate: 1
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
  keepDraft(first, 0)
  void router.push({ name: 'declaration' })
}
</script>

<template>
  <div class="place start">
    <div class="col">
      <h1>Bring in routes</h1>
      <p class="faint">
        Mill Gate needs to know which routes there are. Then you say who may call them, and it shows where the service
        does otherwise.
      </p>
      <BringRoutes />
      <section class="third">
        <h2>Or begin with an empty declaration</h2>
        <NButton @click="empty">Write it yourself</NButton>
      </section>
    </div>
    <aside class="sheet demo">
      <h1>Open the demo</h1>
      <p>
        A made-up observatory that shares telescope time: fifty routes, seven callers, and a service with ten things
        wrong. It runs on this machine only.
      </p>
      <NButton type="primary" :loading="busy" @click="demo">Open the demo</NButton>
    </aside>
  </div>
</template>

<style scoped>
.start {
  display: flex;
  gap: 40px;
  justify-content: center;
  padding-top: 48px;
}
.col {
  width: 620px;
}
.demo {
  width: 300px;
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
