<script setup lang="ts">
import { NButton, NCheckbox, NInput, NRadio, NRadioGroup, NSelect } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import DialogCard from '../parts/DialogCard.vue'
import { setting } from '../parts/words'
import type { Shown } from '../stores/workspace'
import { offered, otherRecords, recordsOn } from './offered'

const show = defineModel<boolean>('show', { required: true })
const props = defineProps<{ board: Shown; routes: string[] }>()
const emit = defineEmits<{ write: [set: Record<string, string>] }>()

const alone = ref<'anyone' | 'signed-in' | 'nobody' | 'list'>('list')
const some = ref<string[]>([])
const where = ref<Record<string, string>>({}) // on which records, by who
const records = ref<{ label: string; detail: string }[]>([])
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
  where.value = {}
  attribute.value = ''
  value.value = 'true'
  hide.value = null
  turned.value = null
  roles.value = [...new Set(props.board.columns.flatMap((c) => c.roles))]
  // What identities are known to have, and what records are.
  const known = await offered('access:\n  - { given: { ')
  attributes.value = known.filter((o) => o.detail === 'attribute').map((o) => o.label)
  records.value = await otherRecords()
})
const groups = computed(() => records.value.filter((r) => r.detail === 'group'))
/** Who can be chosen, in words. Who needs no credential, or any, is here with some records alone. */
const choices = computed(() => [
  { who: 'owner', says: 'the owner of the record' },
  ...(groups.value.length ? [{ who: 'anyone', says: 'anyone, for some records' }] : []),
  ...(records.value.length ? [{ who: 'signed-in', says: 'everyone signed in, for some records' }] : []),
  ...roles.value.map((r) => ({ who: r, says: `role ${r}` })),
  ...identities.value.slice(0, 40).map((i) => ({ who: `identity:${i}`, says: `${i} alone` })),
])
const forSome = new Set(['anyone', 'signed-in'])
/** On which records somebody can be admitted. */
function onWhich(who: string) {
  const some = (who === 'anyone' ? groups.value : records.value).map((r) => ({ label: recordsOn(r), value: r.label }))
  if (forSome.has(who)) return some
  return [{ label: 'all', value: '' }, { label: 'its own', value: 'own' }, ...some]
}
function toggle(name: string, on: boolean) {
  some.value = on ? [...some.value, name] : some.value.filter((s) => s !== name)
  if (forSome.has(name)) where.value[name] ??= onWhich(name)[0]?.value ?? ''
}
function alternative(who: string, listed: boolean): string {
  const word = who.includes(':') && (listed || where.value[who]) ? JSON.stringify(who) : who
  return where.value[who] ? `{ who: ${word}, on: ${where.value[who]} }` : word
}
const set = computed(() => {
  const out: Record<string, string> = {}
  if (alone.value !== 'list') out.who = alone.value
  else if (some.value.length === 1 && !some.value[0]!.startsWith('identity:'))
    out.who = alternative(some.value[0]!, false)
  else if (some.value.length) out.who = `[${some.value.map((s) => alternative(s, true)).join(', ')}]`
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
        <span v-for="c in choices" :key="c.who" class="choice">
          <NCheckbox :checked="some.includes(c.who)" @update:checked="(v: boolean) => toggle(c.who, v)">{{
            c.says
          }}</NCheckbox>
          <NSelect
            v-if="records.length && c.who !== 'owner' && some.includes(c.who)"
            :value="where[c.who] ?? ''"
            size="tiny"
            class="where"
            :options="onWhich(c.who)"
            :input-props="{ 'aria-label': `Records of ${c.who}` }"
            @update:value="(v: string) => (where[c.who] = v)"
          />
        </span>
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
.choice {
  display: inline-flex;
  align-items: center;
  gap: 4px;
}
.where {
  width: 150px;
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
