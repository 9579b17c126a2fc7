<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { storeToRefs } from 'pinia'
import { computed, ref } from 'vue'
import { api, ask, message, type Connection, type Target } from '../../api/client'
import WroteLines from '../../parts/WroteLines.vue'
import { useDraft } from '../../composables/useDraft'
import { usePending } from '../../stores/pending'
import TargetUnsafe from './TargetUnsafe.vue'
import { said, target as targetOf } from './target'

// One target, and what would be sent to it.
const props = defineProps<{ target: Target; fresh: boolean; taken: string[] }>()
const emit = defineEmits<{ put: [name: string] }>()
const { pending, text } = storeToRefs(usePending())

interface Field {
  name: keyof Target
  label: string
  hint?: string
  says?: string
  lines?: boolean // several, one in each
}
const fields: Field[] = [
  { name: 'name', label: 'Name', hint: 'staging' },
  { name: 'base', label: 'Base address', hint: 'https://staging.example' },
  {
    name: 'hosts',
    label: 'Other hosts',
    hint: 'id: https://id.staging.example',
    says: 'one in a line, name: address; routes name them as id:/path',
    lines: true,
  },
  {
    name: 'values',
    label: 'Values',
    hint: 'issuer: https://id.staging.example',
    says: 'what {name} stands for on this target',
    lines: true,
  },
  { name: 'direct', label: 'Direct address', hint: 'none', says: 'of the same service without what stands before it' },
  { name: 'pace', label: 'Pace', hint: '5 per 1s', says: 'the most that is sent, for example 5 per 1s' },
  {
    name: 'askFor',
    label: 'Also ask for',
    hint: '/internal/health',
    says: 'further paths, one in a line, that should not be served',
    lines: true,
  },
  { name: 'unsafe', label: 'Unsafe methods' },
]
const { form, changed, error, fresh, draft, lines, put, reset } = useDraft(
  fields.map((f) => f.name),
  () => said(props.target),
  () => (props.fresh ? '' : props.target.name),
  async (before, _, all) => {
    const t = targetOf(all)
    if (props.fresh && props.taken.includes(t.name)) throw new Error(`There is a target called ${t.name} already.`)
    return ask(api.POST('/api/targets/edit', { body: { text: before, target: t } }))
  },
)
// What a new one lacks is not said before somebody has begun with it.
const begun = computed(() => !props.fresh || !!form['name']?.trim())
function write() {
  const name = form['name']?.trim() ?? ''
  put()
  emit('put', name)
}

const testing = ref(false)
const test = ref<Connection | null>(null)
const failed = ref('')
async function tryIt() {
  testing.value = true
  test.value = null
  failed.value = ''
  try {
    test.value = await ask(api.POST('/api/targets/test', { body: { target: props.target.name } }))
  } catch (e) {
    failed.value = message(e)
  } finally {
    testing.value = false
  }
}
</script>

<template>
  <form class="place" @submit.prevent="write">
    <h1>{{ props.fresh ? 'New target' : target.name }}</h1>
    <p class="faint">Only these addresses are ever contacted, at no more than this pace.</p>
    <div class="grid">
      <template v-for="f in fields.filter((x) => props.fresh || x.name !== 'name')" :key="f.name">
        <component :is="f.name === 'unsafe' ? 'span' : 'label'" :id="`t-${f.name}-of`" :for="`t-${f.name}`">{{
          f.label
        }}</component>
        <TargetUnsafe
          v-if="f.name === 'unsafe'"
          :model-value="form[f.name] ?? ''"
          labelled="t-unsafe-of"
          :target="props.fresh && !draft ? '' : (form['name'] ?? '')"
          :text="draft || (pending ? text : '')"
          @update:model-value="(v: string) => (form[f.name] = v)"
        />
        <div v-else>
          <NInput
            v-model:value="form[f.name]"
            :type="f.lines ? 'textarea' : 'text'"
            :autosize="f.lines ? { minRows: 1 } : undefined"
            :class="{ mono: f.name !== 'name' }"
            :placeholder="f.hint"
            :input-props="{ id: `t-${f.name}`, spellcheck: false }"
          /><small v-if="f.says">{{ f.says }}</small>
        </div>
      </template>
    </div>
    <WroteLines :lines="lines" />
    <p v-if="error && changed && begun" class="bad" role="alert">{{ error }}</p>
    <p v-if="failed" class="bad" role="alert">{{ failed }}</p>
    <div class="acts">
      <NButton type="primary" attr-type="submit" :disabled="!changed || !fresh || !!error">{{
        props.fresh ? 'Add it' : 'Change it'
      }}</NButton>
      <NButton v-if="changed && !props.fresh" @click="reset">As it is</NButton>
      <NButton
        :disabled="changed || props.fresh || pending"
        :loading="testing"
        :title="changed || pending ? 'Keep the change first: only what is declared is contacted' : ''"
        @click="tryIt"
        >Test the connection</NButton
      >
    </div>
    <ul v-if="test" class="steps" aria-label="What the test showed">
      <li v-for="s in test.steps" :key="s.name">
        <b :class="s.ok ? 'fine' : 'bad'">{{ s.ok ? 'yes' : 'no' }}</b> <span>{{ s.name }}</span>
        <span class="faint">{{ s.text }}</span>
      </li>
    </ul>
  </form>
</template>

<style scoped>
.grid {
  display: grid;
  grid-template-columns: 130px minmax(0, 640px);
  gap: 10px 16px;
  align-items: start;
  margin: 14px 0;
}
.grid > label,
.grid > span {
  padding-top: 5px;
}
small {
  color: var(--faint);
}
.acts {
  display: flex;
  gap: 8px;
  position: sticky;
  bottom: -20px; /* what the place leaves below */
  padding: 8px 0 20px;
  background: var(--ground);
}
.bad {
  color: var(--U);
}
.fine {
  color: var(--ok);
}
.steps {
  list-style: none;
  padding: 0;
  max-width: 760px;
}
.steps li {
  display: grid;
  grid-template-columns: 32px 180px 1fr;
  padding: 3px 0;
  border-bottom: 1px solid var(--hair);
}
</style>
