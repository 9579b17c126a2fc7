<script setup lang="ts">
import FormField from '../../parts/FormField.vue'
import { NButton, NCheckbox, NInput, NSelect } from 'naive-ui'
import { storeToRefs } from 'pinia'
import { computed, ref } from 'vue'
import type { CallerEdit } from '../../api/client'
import { useWorkspace } from '../../stores/workspace'
import { schemeText, type SchemeKind } from './scheme'

const emit = defineEmits<{ put: [change: Omit<CallerEdit, 'text'>]; leave: [] }>()
const { board } = storeToRefs(useWorkspace())

const kinds: { value: SchemeKind; label: string }[] = [
  { value: 'login', label: 'a token that a login gives' },
  { value: 'bearer', label: 'a token that one has' },
  { value: 'header', label: 'a key in a header' },
  { value: 'query', label: 'a key in the query' },
  { value: 'cookie', label: 'a cookie that a login sets' },
  { value: 'basic', label: 'name and password with each request' },
]
const name = ref('access')
const kind = ref<SchemeKind>('login')
const route = ref<string | null>(null)
const form = ref(false)
const body = ref('{ "username": "{username}", "password": "{password}" }')
const at = ref('/access_token')
const field = ref('X-Api-Key')
const logs = computed(() => kind.value === 'login' || kind.value === 'cookie')
const routes = computed(() =>
  (board.value?.rows ?? []).filter((r) => r.method === 'POST').map((r) => ({ label: r.key, value: r.key })),
)
const text = computed(() =>
  schemeText({
    kind: kind.value,
    route: route.value ?? '',
    form: form.value,
    body: body.value,
    at: at.value,
    field: field.value,
  }),
)
const ready = computed(() => !!name.value.trim() && !!text.value)
</script>

<template>
  <form @submit.prevent="ready && emit('put', { do: 'put', kind: 'scheme', name: name.trim(), scheme: text })">
    <FormField label="name"
      ><NInput v-model:value="name" size="small" :input-props="{ 'aria-label': 'Name of the scheme' }"
    /></FormField>
    <FormField label="is"
      ><NSelect v-model:value="kind" size="small" :options="kinds" aria-label="What it is"
    /></FormField>
    <template v-if="logs">
      <FormField label="the login"
        ><NSelect
          v-model:value="route"
          size="small"
          filterable
          tag
          :options="routes"
          placeholder="POST /login"
          aria-label="The login"
      /></FormField>
      <FormField label="sends"
        ><NInput
          v-model:value="body"
          size="small"
          type="textarea"
          :autosize="{ minRows: 1, maxRows: 5 }"
          :input-props="{ 'aria-label': 'What the login sends' }"
      /></FormField>
      <FormField label=""><NCheckbox v-model:checked="form">as a form, in place of JSON</NCheckbox></FormField>
    </template>
    <FormField v-if="kind === 'login'" label="the token is at"
      ><NInput v-model:value="at" size="small" :input-props="{ 'aria-label': 'Where the token is' }"
    /></FormField>
    <FormField
      v-if="kind === 'header' || kind === 'query' || kind === 'cookie'"
      :label="kind === 'header' ? 'the header' : kind === 'query' ? 'the parameter' : 'the cookie'"
      ><NInput v-model:value="field" size="small" :input-props="{ 'aria-label': 'Its field' }"
    /></FormField>
    <p v-if="text" class="mono becomes">{{ name }}: {{ text }}</p>
    <div class="acts">
      <NButton size="small" type="primary" attr-type="submit" :disabled="!ready">Add the scheme</NButton>
      <NButton size="small" @click="emit('leave')">Leave it</NButton>
    </div>
  </form>
</template>

<style scoped>
form {
  max-width: 620px;
}
.becomes {
  padding: 6px 10px;
  background: var(--mill-soft);
  color: var(--mill);
  border-radius: 4px;
  overflow-wrap: anywhere;
}
.acts {
  display: flex;
  gap: 8px;
}
</style>
