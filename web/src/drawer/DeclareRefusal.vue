<script setup lang="ts">
import { useMessage } from 'naive-ui'
import { api, ask, message } from '../api/client'
import { setting } from '../parts/words'
import { usePending } from '../stores/pending'

// A refusal that is declared otherwise, and is right as it is: what was seen is declared.
const props = defineProps<{ route: string; words: Record<string, string> }>()
const pending = usePending()
const toast = useMessage()
async function write() {
  try {
    await pending.edit(
      (text) =>
        ask(api.POST('/api/board/edit', { body: { text, routes: [props.route], callers: [], set: props.words } })),
      (r) => r.title,
    )
  } catch (e) {
    toast.error(message(e), { duration: 8000 })
  }
}
</script>

<template>
  <p class="more">
    <button class="bare link" title="Declare that who is turned away here is answered so" @click="write">
      It is right as it is: declare <span class="mono">{{ setting(words) }}</span>
    </button>
  </p>
</template>

<style scoped>
.more {
  margin: 4px 0 0;
}
.link {
  color: var(--mill);
}
</style>
