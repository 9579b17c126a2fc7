<script setup lang="ts">
import { NButton } from 'naive-ui'
import { ref } from 'vue'
import { api, ask, message } from '../../api/client'

// Whether the secret of a token is one of somebody's words.
const props = defineProps<{ token: string }>()
const guessing = ref<AbortController | null>(null)
const guessed = ref('')
async function guess(e: globalThis.Event) {
  const f = (e.target as HTMLInputElement).files?.[0]
  if (!f) return
  guessed.value = ''
  const stop = (guessing.value = new AbortController())
  try {
    const body = { text: props.token, words: await f.text() }
    const r = await ask(api.POST('/api/tokens/guess', { body, signal: stop.signal }))
    guessed.value = r.found
      ? `Its secret is “${r.word}”. Whoever knows it makes any token.`
      : `None of ${r.tried} words.`
  } catch (e) {
    guessed.value = stop.signal.aborted ? 'Stopped.' : message(e)
  } finally {
    guessing.value = null
  }
}
</script>

<template>
  <p class="words">
    <label class="link">
      Guess its secret with your word list…
      <input type="file" class="hide" aria-label="Word list" :disabled="!token.trim()" @change="guess" />
    </label>
    <NButton v-if="guessing" size="tiny" @click="guessing.abort()">Stop</NButton>
    <span role="status">{{ guessing ? ' trying…' : guessed }}</span>
  </p>
</template>

<style scoped>
.link {
  color: var(--mill);
  cursor: pointer;
}
.words {
  margin: 8px 0 0;
}
.words label {
  position: relative;
}
.hide {
  position: absolute;
  opacity: 0;
  width: 1px;
}
</style>
