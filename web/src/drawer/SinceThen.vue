<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { storeToRefs } from 'pinia'
import { api, ask, message, type ChangedCrossing, type Crossing, type Kind } from '../api/client'
import { useWorkspace } from '../stores/workspace'
import { kindName } from '../theme/kinds'

// What each probe of a crossing was in an earlier sweep, beside what it is now.
const props = defineProps<{ x: Crossing; since: number }>()
const { target, version } = storeToRefs(useWorkspace())
const list = ref<ChangedCrossing[]>([])
const error = ref('')
watch(
  () => [props.since, version.value] as const,
  async ([since]) => {
    try {
      list.value = await ask(
        api.GET('/api/changed', { params: { query: { since, target: target.value || undefined } } }),
      )
      error.value = ''
    } catch (e) {
      error.value = message(e)
    }
  },
  { immediate: true },
)
const turned = computed(
  () => list.value.find((c) => c.route === props.x.route && c.column === props.x.caller)?.probes ?? [],
)
const label = (id: string) => props.x.probes.find((p) => p.id === id)?.label ?? id
const now = (id: string) => props.x.probes.find((p) => p.id === id)?.exchange?.status
const then = (id: string) => props.x.history.find((h) => h.probe === id && h.sweep <= props.since)?.status
const says = (kind: string, status?: number) =>
  `${kind ? kindName(kind as Kind) : 'not planned'}${status ? `, answered ${status}` : ''}`
</script>

<template>
  <section>
    <h2>Since sweep {{ since }}</h2>
    <p v-if="error">{{ error }}</p>
    <p v-else-if="!turned.length">Its verdicts are what they were.</p>
    <dl v-else>
      <template v-for="t in turned" :key="t.probe">
        <dt>{{ label(t.probe) }}</dt>
        <dd>
          <span class="faint">{{ says(t.was, then(t.probe)) }}</span> → <b>{{ says(t.is, now(t.probe)) }}</b>
        </dd>
      </template>
    </dl>
  </section>
</template>

<style scoped>
section {
  margin-bottom: 16px;
}
p,
dd {
  margin: 0;
}
dl {
  display: grid;
  grid-template-columns: minmax(80px, auto) minmax(0, 1fr);
  gap: 2px 12px;
  margin: 0;
}
dt {
  color: var(--faint);
}
</style>
