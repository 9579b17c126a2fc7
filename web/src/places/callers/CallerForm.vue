<script setup lang="ts">
import FormField from '../../parts/FormField.vue'
import { NButton, NInput, NRadio, NRadioGroup, NSelect } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import type { CallerEdit, CallerIdentity, Callers } from '../../api/client'

const props = defineProps<{ callers: Callers; busy: boolean; identity?: CallerIdentity }>()
const emit = defineEmits<{ put: [change: Omit<CallerEdit, 'text'>]; leave: [] }>()

const name = ref(props.identity?.name ?? '')
const roles = ref<string[]>([...(props.identity?.roles ?? [])])
const scopes = ref((props.identity?.scopes ?? []).join(' '))
const attributes = ref(
  Object.entries(props.identity?.attributes ?? {})
    .map(([k, v]) => `${k}: ${v}`)
    .join('\n'),
)
const lines = (text: string) =>
  text.split('\n').flatMap((l) => {
    const i = l.indexOf(':')
    return i > 0 ? [[l.slice(0, i).trim(), l.slice(i + 1).trim()] as const] : []
  })
const within = ref(
  Object.entries(props.identity?.in ?? {})
    .map(([kind, places]) => `${kind}: ${places.join(', ')}`)
    .join('\n'),
)
const scheme = ref(props.identity?.credentials[0]?.scheme ?? props.callers.schemes[0]?.name ?? '')
const values = ref<Record<string, string>>({})
const where = ref<'kept' | 'env'>('kept')

const chosen = computed(() => props.callers.schemes.find((s) => s.name === scheme.value))
const secret = (n: string) => !!chosen.value?.secret.includes(n)
const needs = computed(() => {
  const list = chosen.value?.needs ?? []
  return [...list.filter((n) => !secret(n)), ...list.filter(secret)]
})
const schemes = computed(() => props.callers.schemes.map((s) => ({ label: s.name, value: s.name })))
const roleOptions = computed(() => props.callers.roles.map((r) => ({ label: r.name, value: r.name })))
watch(
  [scheme, () => props.identity],
  () => {
    const c = props.identity?.credentials.find((c) => c.scheme === scheme.value)
    values.value = Object.fromEntries((c?.fill ?? []).map((m) => [m.name, m.text]))
  },
  { immediate: true },
)

const change = computed<Omit<CallerEdit, 'text'>>(() => {
  const members: Record<string, string> = {}
  const secrets: Record<string, string> = {}
  for (const n of needs.value) {
    const v = (values.value[n] ?? '').trim()
    if (secret(n) && !/^(env|kept|file):/.test(v)) {
      if (where.value === 'env') members[n] = `env:${v}`
      else secrets[n] = v
    } else members[n] = v
  }
  return {
    do: 'put',
    kind: 'identity',
    name: name.value.trim(),
    roles: roles.value,
    scopes: scopes.value.split(/[\s,]+/).filter(Boolean),
    attributes: Object.fromEntries(lines(attributes.value)),
    in: Object.fromEntries(lines(within.value).map(([kind, places]) => [kind, places.split(/[\s,]+/).filter(Boolean)])),
    credentials: scheme.value && needs.value.length ? [{ scheme: scheme.value, members, secrets }] : [],
  }
})
const ready = computed(() => !!name.value.trim() && needs.value.every((n) => (values.value[n] ?? '').trim()))
</script>

<template>
  <form @submit.prevent="ready && emit('put', change)">
    <h2 class="title">{{ identity ? `What ${identity.name} is filled with` : 'Add a caller' }}</h2>
    <FormField v-if="!identity" label="name"
      ><NInput v-model:value="name" placeholder="ann" :input-props="{ 'aria-label': 'Name' }"
    /></FormField>
    <FormField label="roles"
      ><NSelect
        v-model:value="roles"
        multiple
        filterable
        tag
        :options="roleOptions"
        placeholder="choose, or type a new one"
        aria-label="Roles"
    /></FormField>
    <FormField label="scopes"
      ><NInput v-model:value="scopes" placeholder="orders:read" :input-props="{ 'aria-label': 'Scopes' }"
    /></FormField>
    <FormField label="attributes"
      ><NInput
        v-model:value="attributes"
        type="textarea"
        :autosize="{ minRows: 1, maxRows: 5 }"
        placeholder="email_verified: true"
        :input-props="{ 'aria-label': 'Attributes' }"
    /></FormField>
    <FormField v-if="callers.kinds.length" label="stands in"
      ><NInput
        v-model:value="within"
        type="textarea"
        :autosize="{ minRows: 1, maxRows: 5 }"
        :placeholder="`${callers.kinds[0]}: NAME`"
        :input-props="{ 'aria-label': 'Stands in' }"
    /></FormField>
    <FormField v-if="schemes.length" label="proves it with"
      ><NSelect v-model:value="scheme" :options="schemes" aria-label="Scheme"
    /></FormField>
    <FormField v-for="n in needs" :key="n" :label="n"
      ><NInput
        v-model:value="values[n]"
        :type="secret(n) && where === 'kept' && !/^(env|kept|file):/.test(values[n] ?? '') ? 'password' : 'text'"
        :placeholder="secret(n) && where === 'env' ? 'NAME of a variable where Mill Gate runs' : ''"
        :input-props="{ 'aria-label': n, autocomplete: 'off' }"
    /></FormField>
    <NRadioGroup v-if="needs.some(secret)" v-model:value="where" name="where">
      <NRadio value="kept">keep the secret sealed here, never shown again</NRadio>
      <NRadio value="env">name a variable of the environment</NRadio>
    </NRadioGroup>
    <div class="acts">
      <NButton type="primary" attr-type="submit" :disabled="!ready || busy" :loading="busy">{{
        identity ? 'Write it' : 'Add'
      }}</NButton>
      <NButton @click="emit('leave')">Leave it</NButton>
    </div>
  </form>
</template>

<style scoped>
.title {
  font-size: 16px;
  color: var(--ink);
}
.acts {
  display: flex;
  gap: 8px;
  margin-top: 14px;
}
</style>
