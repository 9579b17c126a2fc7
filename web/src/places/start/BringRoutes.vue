<script setup lang="ts">
import { NButton, NInput, useMessage } from 'naive-ui'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, message } from '../../api/client'
import { keepDraft } from '../declaration/draft'

const emit = defineEmits<{ done: [] }>()
const router = useRouter()
const toast = useMessage()
const lines = ref('')
const error = ref('')
const busy = ref(false)
const over = ref(false)
const input = ref<HTMLInputElement | null>(null)

async function bring(fileName: string, fileText: string, list: string[]) {
  busy.value = true
  error.value = ''
  try {
    const r = await ask(api.POST('/api/routes', { body: { fileName, fileText, lines: list } }))
    const d = await ask(api.GET('/api/declaration'))
    keepDraft(r.text, d.revision)
    toast.success(`${r.count} ${r.count === 1 ? 'route' : 'routes'} read. See what they change, then keep it.`)
    lines.value = ''
    emit('done')
    await router.push({ name: 'declaration', query: { from: String(Date.now()) } })
  } catch (e) {
    error.value = message(e)
  } finally {
    busy.value = false
  }
}
async function take(files: FileList | null | undefined) {
  const f = files?.[0]
  if (f) await bring(f.name, await f.text(), [])
  if (input.value) input.value.value = ''
}
async function paste() {
  const text = lines.value.trim()
  if (!text) {
    error.value = 'There is nothing in it yet. Write one route in a line, for example  GET /v1/things/{id}'
    return
  }
  if (/^\s*[{]|^\s*openapi\s*:/m.test(text)) await bring('routes.openapi.yaml', lines.value, [])
  else await bring('', '', text.split('\n'))
}
</script>

<template>
  <div class="ways">
    <section
      class="drop"
      :class="{ over }"
      @dragover.prevent="over = true"
      @dragleave="over = false"
      @drop.prevent="((over = false), take($event.dataTransfer?.files))"
    >
      <h2>An OpenAPI file</h2>
      <p>Drop an OpenAPI 3.0 or 3.1 file here, YAML or JSON. It is kept beside the declaration.</p>
      <input
        ref="input"
        type="file"
        accept=".yaml,.yml,.json"
        class="visually-hidden"
        aria-label="OpenAPI file"
        tabindex="-1"
        @change="take(($event.target as HTMLInputElement).files)"
      />
      <NButton :loading="busy" @click="input?.click()">Choose a file</NButton>
    </section>
    <section>
      <h2>Lines by hand, or a pasted OpenAPI text</h2>
      <NInput
        v-model:value="lines"
        type="textarea"
        :rows="6"
        placeholder="GET /v1/things&#10;GET /v1/things/{thing_id}&#10;DELETE /v1/things/{thing_id}"
        class="mono"
        :input-props="{ 'aria-label': 'Routes, one in a line', spellcheck: false }"
      />
      <NButton class="go" :loading="busy" @click="paste">Bring these in</NButton>
    </section>
    <p v-if="error" class="bad" role="alert">{{ error }}</p>
  </div>
</template>

<style scoped>
.ways {
  display: grid;
  gap: 16px;
}
.drop {
  border: 1.5px dashed var(--line);
  border-radius: 4px;
  padding: 14px 16px;
}
.drop.over {
  border-color: var(--mill);
  background: var(--mill-soft);
}
p {
  margin: 0 0 8px;
}
h2 {
  color: var(--ink);
}
.go {
  margin-top: 8px;
}
.bad {
  color: var(--U);
}
</style>
