<script setup lang="ts">
import { NButton, NInput, NSelect } from 'naive-ui'
import { computed, ref } from 'vue'
import { api, ask, type CallerEdit, type CallerIdentity, type Callers, type CallerTried } from '../../api/client'
import { useAsk } from '../../composables/useAsk'
import CallerForm from './CallerForm.vue'
import LoginAnswer from './LoginAnswer.vue'

const props = defineProps<{ identity: CallerIdentity; callers: Callers; target: string; text: string }>()
const emit = defineEmits<{ edit: [change: Omit<CallerEdit, 'text'>, then?: string]; tried: [] }>()
const { busy, run } = useAsk()

const scheme = ref(props.identity.credentials[0]?.scheme ?? '')
const tried = ref<CallerTried | null>(null)
const filling = ref(false)
const to = ref('')
const naming = ref<'' | 'copy' | 'rename'>('')
const credential = computed(() => props.identity.credentials.find((c) => c.scheme === scheme.value))
const options = computed(() => props.identity.credentials.map((c) => ({ label: c.scheme, value: c.scheme })))

async function attempt() {
  await run(async () => {
    tried.value = await ask(
      api.POST('/api/callers/try', {
        body: { target: props.target, text: props.text, identity: props.identity.name, scheme: scheme.value },
      }),
    )
    emit('tried')
  })
}
function put(change: Omit<CallerEdit, 'text'>) {
  emit('edit', change)
  filling.value = false
}
function name(what: 'copy' | 'rename') {
  naming.value = what
  to.value = what === 'copy' ? '' : props.identity.name
}
function named() {
  if (!naming.value) return
  emit('edit', { do: naming.value, kind: 'identity', name: props.identity.name, to: to.value }, to.value.trim())
  naming.value = ''
}
</script>

<template>
  <CallerForm v-if="filling" :callers="callers" :identity="identity" :busy="busy" @put="put" @leave="filling = false" />
  <div v-else>
    <header>
      <h1>{{ identity.name }}</h1>
      <span class="faint"
        >{{ identity.roles.join(', ') || 'no role' }} · opens
        {{ identity.opens === 1 ? '1 route' : `${identity.opens} routes` }} ·
        <RouterLink :to="{ name: 'declaration', query: { line: identity.line } }"
          >line {{ identity.line }}</RouterLink
        ></span
      >
    </header>
    <dl>
      <template v-for="m in credential?.fill ?? []" :key="m.name">
        <dt>{{ m.name }}</dt>
        <dd class="mono">
          {{ m.text }}
          <span v-if="m.secret" class="faint">{{
            m.text.startsWith('kept:')
              ? 'sealed here, never shown'
              : m.text
                ? 'looked up where Mill Gate runs'
                : 'stands in the file in clear'
          }}</span>
        </dd>
      </template>
      <template v-if="Object.keys(identity.attributes).length">
        <dt>attributes</dt>
        <dd class="mono">
          {{
            Object.entries(identity.attributes)
              .map(([k, v]) => `${k}: ${v}`)
              .join(', ')
          }}
        </dd>
      </template>
      <template v-if="identity.scopes.length">
        <dt>scopes</dt>
        <dd class="mono">{{ identity.scopes.join(' ') }}</dd>
      </template>
      <template v-for="(places, kind) in identity.in" :key="kind">
        <dt>{{ kind }}</dt>
        <dd class="mono">{{ places.join(', ') }}</dd>
      </template>
      <template v-for="(ids, record) in identity.owns" :key="record">
        <dt>owns</dt>
        <dd class="mono">{{ record }} {{ ids.join(', ') }}</dd>
      </template>
    </dl>
    <div class="acts">
      <NSelect
        v-if="options.length > 1"
        v-model:value="scheme"
        size="small"
        class="scheme"
        :options="options"
        aria-label="Scheme"
      />
      <NButton size="small" type="primary" :loading="busy" :disabled="!credential || !target" @click="attempt"
        >Try it{{ target ? ` on ${target}` : '' }}</NButton
      >
      <NButton size="small" @click="filling = true">Change…</NButton>
      <NButton size="small" @click="name('copy')">Copy…</NButton>
      <NButton size="small" @click="name('rename')">Rename…</NButton>
      <NButton size="small" @click="emit('edit', { do: 'remove', kind: 'identity', name: identity.name }, '')"
        >Remove</NButton
      >
    </div>
    <form v-if="naming" class="acts" @submit.prevent="named">
      <NInput
        v-model:value="to"
        size="small"
        :placeholder="naming === 'copy' ? 'name of the copy' : 'another name, everywhere'"
        :input-props="{ 'aria-label': naming === 'copy' ? 'Name of the copy' : 'Another name' }"
      />
      <NButton size="small" type="primary" attr-type="submit" :disabled="!to.trim() || to === identity.name">{{
        naming === 'copy' ? 'Copy' : 'Rename everywhere'
      }}</NButton>
    </form>
    <LoginAnswer
      v-if="tried"
      :tried="tried"
      :identity="identity.name"
      :scheme="scheme"
      :target="target"
      @edit="(change) => emit('edit', change)"
    />
  </div>
</template>

<style scoped>
header {
  margin-bottom: 10px;
}
dl {
  display: grid;
  grid-template-columns: 100px minmax(0, 1fr);
  gap: 5px 10px;
  margin: 0 0 12px;
}
dt {
  color: var(--faint);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  margin-bottom: 10px;
}
.scheme {
  width: 130px;
}
form.acts {
  flex-wrap: nowrap;
}
</style>
