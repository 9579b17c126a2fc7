<script setup lang="ts">
import { ref, watch } from 'vue'
import { api, ask, message, type ObservedRead } from '../../api/client'
import ExchangeView from '../../drawer/ExchangeView.vue'

const props = defineProps<{ target: string; route: string }>()
const reads = ref<ObservedRead[] | null>(null)
const shown = ref(-1)
const error = ref('')

watch(
  () => [props.target, props.route],
  async () => {
    shown.value = -1
    try {
      const query = { target: props.target, route: props.route }
      reads.value = await ask(api.GET('/api/observe/reads', { params: { query } }))
    } catch (e) {
      error.value = message(e)
    }
  },
  { immediate: true },
)
function who(r: ObservedRead): string {
  if (r.options) return 'nobody, which methods there are'
  const whose = r.owner && r.owner !== r.identity ? `${r.owner}’s` : ''
  const how =
    r.relation === 'foreign' ? whose || 'somebody’s' : r.relation.replace('own', 'its own').replaceAll('+', ' ')
  const record = [how, r.record].filter((x) => x).join(' ')
  return (r.identity || 'nobody') + (r.scheme ? ` with ${r.scheme}` : '') + (record && `, ${record}`)
}
</script>

<template>
  <section>
    <h3 class="mono">{{ route }}</h3>
    <p v-if="error" class="bad">{{ error }}</p>
    <ul>
      <li v-for="(r, n) in reads ?? []" :key="n">
        <button class="bare" :class="{ on: shown === n }" :disabled="!r.exchange" @click="shown = shown === n ? -1 : n">
          <b class="mono">{{ r.status || '–' }}</b> {{ who(r) }}
          <span v-if="r.why" class="faint">{{ r.why }}</span>
        </button>
      </li>
    </ul>
    <ExchangeView v-if="reads?.[shown]?.exchange" :exchange="reads[shown]!.exchange!" />
  </section>
</template>

<style scoped>
h3 {
  margin: 4px 0 2px;
  font-weight: 600;
}
ul {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 18px;
  list-style: none;
  padding: 0;
  margin: 0 0 6px;
  font-size: 13px;
}
.on {
  color: var(--mill);
  text-decoration: underline;
}
.bad {
  color: var(--U);
}
</style>
