<script setup lang="ts">
import { NRadio, NRadioGroup } from 'naive-ui'
import { computed, ref } from 'vue'
import { api, ask } from '../../api/client'
import { useAnswer } from '../../composables/useAnswer'
import { vSays } from '../../parts/says'
import { plural } from '../../parts/words'

// What each word for unsafe methods would send to the target, before one of them is chosen.
const props = defineProps<{ target: string; text: string; labelled: string }>()
const policy = defineModel<string>({ required: true })

const words = [
  { value: 'refused', label: 'refused', says: 'nothing that could change something is sent' },
  {
    value: 'made-records-only',
    label: 'made records only',
    says: 'only on records made for the purpose, removed afterwards',
  },
  { value: 'allowed', label: 'allowed', says: 'for a service whose data may be lost' },
]
const { answer: plans, error } = useAnswer(
  () => [props.target, props.text],
  () =>
    props.target
      ? ask(api.POST('/api/targets/plans', { body: { target: props.target, text: props.text } }))
      : undefined,
  { keep: true },
)
const of = (value: string) => plans.value?.find((p) => p.policy === value)
const chosen = computed(() => of(policy.value))
const columns = [
  { name: 'onThere', label: 'on what is there', says: 'Probes that could change what is there' },
  {
    name: 'begin',
    label: 'make or begin',
    says: 'Probes that make a record, or begin or end a session, and touch nothing else',
  },
  { name: 'onMade', label: 'on made records', says: 'Probes on records made for the purpose and removed afterwards' },
] as const
const few = 8
const all = ref(false)
const shown = computed(() => chosen.value?.routes.slice(0, all.value ? undefined : few) ?? [])
</script>

<template>
  <div>
    <NRadioGroup v-model:value="policy" name="unsafe" :aria-labelledby="labelled">
      <table class="plain">
        <thead>
          <tr>
            <td></td>
            <th v-says="'Probes of one sweep in all'" class="n">probes</th>
            <th v-for="c in columns" :key="c.name" v-says="c.says" class="n">{{ c.label }}</th>
            <th v-says="'Probes that are not sent, and said to be left out'" class="n">left out</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="w in words" :key="w.value">
            <td>
              <NRadio :value="w.value" :label="w.label" /><small>{{ w.says }}</small>
            </td>
            <td class="n">{{ of(w.value)?.probes }}</td>
            <td v-for="c in columns" :key="c.name" class="n" :class="{ some: c.name === 'onThere' }">
              {{ of(w.value)?.[c.name] || '' }}
            </td>
            <td class="n">{{ of(w.value)?.left }}</td>
          </tr>
        </tbody>
      </table>
    </NRadioGroup>
    <p v-if="error && target" class="faint" role="status">What would be sent is not known: {{ error }}</p>
    <details v-else-if="chosen?.routes.length" class="routes">
      <summary>
        What would be sent to {{ plural(chosen.routes.length, 'route') }} with unsafe methods, in one sweep
      </summary>
      <table class="plain">
        <thead>
          <tr>
            <th>route</th>
            <th v-for="c in columns" :key="c.name" v-says="c.says" class="n">{{ c.label }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in shown" :key="r.route">
            <td class="mono">{{ r.route }}</td>
            <td v-for="c in columns" :key="c.name" class="n" :class="{ some: c.name === 'onThere' }">
              {{ r[c.name] || '' }}
            </td>
          </tr>
        </tbody>
      </table>
      <button v-if="chosen.routes.length > few" type="button" class="bare link" @click="all = !all">
        {{ all ? 'Fewer' : `All ${chosen.routes.length}` }}
      </button>
    </details>
  </div>
</template>

<style scoped>
table {
  width: 100%;
}
small {
  display: block;
  padding-left: 24px;
  color: var(--faint);
}
.routes summary {
  cursor: pointer;
  color: var(--mill);
  margin: 6px 0;
}
.n {
  text-align: right;
  vertical-align: top;
  width: 76px;
  padding-left: 0;
}
.some {
  color: var(--W);
  font-weight: 600;
}
.link {
  color: var(--mill);
}
</style>
