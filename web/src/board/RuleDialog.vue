<script setup lang="ts">
import { NButton, NCheckbox, NInput, NRadio, NRadioGroup, NSelect } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { api, ask } from '../api/client'
import DialogCard from '../parts/DialogCard.vue'
import { setting } from '../parts/words'
import type { Shown } from '../stores/workspace'

const show = defineModel<boolean>('show', { required: true })
const props = defineProps<{ board: Shown; routes: string[] }>()
const emit = defineEmits<{ write: [set: Record<string, string>] }>()

const alone = ref<'anyone' | 'signed-in' | 'nobody' | 'list'>('list')
const some = ref<string[]>([])
const attribute = ref('')
const value = ref('true')
const hide = ref<boolean | null>(null)
const turned = ref<string | null>(null)
const ways = [
  { label: '401 without a credential, 403 for who may not', value: '' },
  { label: '404 to all of them', value: '404' },
  { label: '404 to who is signed in and may not', value: '{ role: 404, scope: 404, ownership: 404 }' },
  { label: '403 to all of them', value: '403' },
  { label: '401 to all of them', value: '401' },
]
const roles = ref<string[]>([])
const identities = computed(() => props.board.columns.filter((c) => c.key).map((c) => c.key))
const attributes = ref<string[]>([])

watch(show, async (s) => {
  if (!s) return
  alone.value = 'list'
  some.value = []
  attribute.value = ''
  value.value = 'true'
  hide.value = null
  turned.value = null
  roles.value = [...new Set(props.board.columns.flatMap((c) => c.roles))]
  try {
    // What identities are known to have.
    const d = await ask(api.GET('/api/declaration'))
    const c = await ask(
      api.POST('/api/declaration/complete', {
        body: { text: d.text + '\naccess:\n  - { given: { ', line: d.text.split('\n').length + 2, column: 17 },
      }),
    )
    attributes.value = c.options.filter((o) => o.detail === 'attribute').map((o) => o.label)
  } catch {
    attributes.value = []
  }
})
function toggle(name: string, on: boolean) {
  some.value = on ? [...some.value, name] : some.value.filter((s) => s !== name)
}
const set = computed(() => {
  const out: Record<string, string> = {}
  if (alone.value !== 'list') out.who = alone.value
  else if (some.value.length === 1 && !some.value[0]!.startsWith('identity:')) out.who = some.value[0]!
  else if (some.value.length)
    out.who = `[${some.value.map((s) => (s.includes(':') ? JSON.stringify(s) : s)).join(', ')}]`
  if (attribute.value.trim()) {
    const v = value.value.trim()
    out.given = `{ ${attribute.value.trim()}: ${/^(true|false|-?\d+(\.\d+)?)$/.test(v) ? v : JSON.stringify(v)} }`
  }
  if (alone.value === 'anyone') {
    out.given = ''
    out.scope = ''
    out.by = ''
  }
  if (hide.value !== null) out.hide = hide.value ? 'true' : ''
  if (turned.value !== null && alone.value !== 'nobody') {
    out.turned_away = turned.value
    if (turned.value) out.hide = ''
  }
  return out
})
const says = computed(() => setting(set.value))
function write() {
  emit('write', set.value)
  show.value = false
}
</script>

<template>
  <DialogCard
    v-model:show="show"
    :title="routes.length === 1 ? `The rule of ${routes[0]}` : `The rule of ${routes.length} routes`"
  >
    <fieldset>
      <legend>Who may call</legend>
      <NRadioGroup v-model:value="alone" name="who">
        <NRadio value="list">some of these</NRadio>
        <NRadio value="signed-in">everyone signed in</NRadio>
        <NRadio value="anyone">anyone</NRadio>
        <NRadio value="nobody">nobody</NRadio>
      </NRadioGroup>
      <div v-if="alone === 'list'" class="list">
        <NCheckbox :checked="some.includes('owner')" @update:checked="(v: boolean) => toggle('owner', v)"
          >the owner of the record</NCheckbox
        >
        <NCheckbox
          v-for="r in roles"
          :key="r"
          :checked="some.includes(r)"
          @update:checked="(v: boolean) => toggle(r, v)"
          >role {{ r }}</NCheckbox
        >
        <NCheckbox
          v-for="i in identities.slice(0, 40)"
          :key="`i${i}`"
          :checked="some.includes(`identity:${i}`)"
          @update:checked="(v: boolean) => toggle(`identity:${i}`, v)"
          >{{ i }} alone</NCheckbox
        >
      </div>
    </fieldset>
    <fieldset v-if="alone !== 'anyone' && alone !== 'nobody'">
      <legend>An attribute that must hold</legend>
      <div class="pair">
        <NInput
          v-model:value="attribute"
          placeholder="for example email_verified"
          :input-props="{ 'aria-label': 'Attribute', list: 'attributes' }"
        />
        <NInput v-model:value="value" :input-props="{ 'aria-label': 'Value' }" />
      </div>
      <datalist id="attributes"><option v-for="a in attributes" :key="a" :value="a"></option></datalist>
    </fieldset>
    <fieldset>
      <legend>To others</legend>
      <NCheckbox
        :checked="hide === true"
        :disabled="!!turned"
        @update:checked="(v: boolean) => (hide = v ? true : null)"
        >the record does not exist (404 in place of 403)</NCheckbox
      >
      <NSelect
        v-if="alone !== 'nobody'"
        v-model:value="turned"
        :options="ways"
        clearable
        filterable
        placeholder="turned away with …"
        :input-props="{ 'aria-label': 'Turned away with' }"
        class="ways"
      />
    </fieldset>
    <p class="mono says">{{ says || 'Nothing is chosen yet.' }}</p>
    <div class="acts">
      <NButton type="primary" :disabled="!says" @click="write">Write the rule</NButton>
      <NButton @click="show = false">Leave it</NButton>
    </div>
  </DialogCard>
</template>

<style scoped>
.ways {
  margin-top: 8px;
}
fieldset {
  border: 0;
  padding: 0;
  margin: 0 0 14px;
}
legend {
  font-size: 13px;
  font-weight: 600;
  color: var(--faint);
  margin-bottom: 4px;
}
.list {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 16px;
  margin-top: 6px;
  max-height: 160px;
  overflow: auto;
}
.pair {
  display: grid;
  grid-template-columns: 1fr 120px;
  gap: 8px;
}
.says {
  padding: 6px 10px;
  background: var(--ground);
  border-radius: 4px;
  overflow-wrap: anywhere;
}
.acts {
  display: flex;
  gap: 8px;
}
</style>
