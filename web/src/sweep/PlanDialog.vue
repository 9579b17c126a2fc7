<script setup lang="ts">
import { NButton } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { api, ask, message, type Plan } from '../api/client'
import DialogCard from '../parts/DialogCard.vue'
import { span } from '../parts/time'

const show = defineModel<boolean>('show', { required: true })
const props = defineProps<{ target: string }>()
const emit = defineEmits<{ start: [] }>()
const plan = ref<Plan | null>(null)
const error = ref('')
const tab = ref<'left' | 'unsafe' | 'shared'>('left')

watch(show, async (s) => {
  if (!s) return
  plan.value = null
  error.value = ''
  try {
    plan.value = await ask(api.GET('/api/plan', { params: { query: { target: props.target } } }))
  } catch (e) {
    error.value = message(e)
  }
})
const policy: Record<string, string> = {
  refused: 'The target does not allow unsafe methods; none is sent.',
  'made-records-only':
    'Unsafe methods are sent on records made for the purpose only, and these are removed afterwards.',
  allowed: 'The target allows unsafe methods. Where a record can be made for the purpose, they are sent on that.',
}
const shared = computed(() => Object.entries(plan.value?.shared ?? {}))
</script>

<template>
  <DialogCard v-model:show="show" :title="`What a sweep of ${target} sends`" :width="720">
    <p v-if="error" class="bad">{{ error }}</p>
    <p v-else-if="!plan" class="faint">Planning …</p>
    <template v-if="plan">
      <dl class="sums">
        <div>
          <dt>probes</dt>
          <dd>{{ plan.probes }}</dd>
        </div>
        <div>
          <dt>with unsafe methods</dt>
          <dd>{{ plan.unsafe }}</dd>
        </div>
        <div>
          <dt>on throwaway records</dt>
          <dd>{{ plan.made }}</dd>
        </div>
        <div>
          <dt>left out</dt>
          <dd>{{ plan.left.length }}</dd>
        </div>
        <div>
          <dt>about</dt>
          <dd>{{ span(plan.seconds) }}</dd>
        </div>
      </dl>
      <p>
        To <span class="mono">{{ plan.base }}</span> at {{ plan.pace }}, {{ plan.requests }} requests in all with logins
        and throwaway records. {{ policy[plan.policy] }}
        <template v-if="plan.spared">
          Broken credentials go to one route of each guard, which spares {{ plan.spared }} more.
        </template>
      </p>
      <p v-if="plan.quota">
        Its requests take {{ span(plan.paceSeconds) }} at that pace, but the target counts them, and the sweep keeps
        inside its quotas: by <b>{{ plan.quota }}</b> it takes {{ span(plan.quotaSeconds!) }}. With a
        <span class="mono">pass</span> of the target it would not be counted.
      </p>
      <div class="tabs" role="tablist">
        <button class="bare" role="tab" :aria-selected="tab === 'left'" @click="tab = 'left'">Left out, and why</button>
        <button class="bare" role="tab" :aria-selected="tab === 'unsafe'" @click="tab = 'unsafe'">
          Unsafe requests
        </button>
        <button class="bare" role="tab" :aria-selected="tab === 'shared'" @click="tab = 'shared'">Shared probes</button>
      </div>
      <div class="list" tabindex="0" role="tabpanel">
        <table v-if="tab === 'left'" class="plain">
          <tbody>
            <tr v-for="(l, i) in plan.left" :key="i">
              <td class="mono">{{ l.route }}</td>
              <td>{{ l.caller ? `${l.caller}, ` : '' }}{{ l.what }}: {{ l.why }}</td>
            </tr>
            <tr v-if="!plan.left.length">
              <td>Nothing is left out.</td>
            </tr>
          </tbody>
        </table>
        <table v-else-if="tab === 'unsafe'" class="plain">
          <tbody>
            <tr v-for="(u, i) in plan.unsafeProbes" :key="i">
              <td class="mono">{{ u.route }}</td>
              <td>{{ u.caller }}</td>
              <td class="faint">{{ u.expected }}</td>
            </tr>
            <tr v-if="!plan.unsafeProbes.length">
              <td>None is sent.</td>
            </tr>
          </tbody>
        </table>
        <table v-else class="plain">
          <tbody>
            <tr v-for="[id, rest] in shared" :key="id">
              <td>{{ id }}</td>
              <td>stands for {{ rest.join(', ') }}</td>
            </tr>
            <tr v-if="!shared.length">
              <td>The declaration tells all identities apart; each is sent itself.</td>
            </tr>
          </tbody>
        </table>
      </div>
      <div class="acts">
        <NButton type="primary" @click="emit('start')">Start sweep</NButton>
        <NButton @click="show = false">Not now</NButton>
      </div>
    </template>
  </DialogCard>
</template>

<style scoped>
.sums {
  display: flex;
  gap: 28px;
  margin: 0 0 12px;
}
.sums dt {
  color: var(--faint);
  font-size: 12px;
}
.sums dd {
  margin: 0;
  font-size: 20px;
  line-height: 26px;
  font-weight: 600;
}
.tabs {
  display: flex;
  gap: 20px;
  border-bottom: 1px solid var(--line);
  margin-top: 8px;
}
.tabs button {
  padding: 4px 0;
  color: var(--faint);
}
.tabs [aria-selected='true'] {
  color: var(--mill);
  box-shadow: 0 2px 0 var(--mill);
}
.list {
  max-height: 300px;
  overflow: auto;
}
.list td {
  padding: 3px 12px 3px 0;
}
.list td.mono {
  white-space: nowrap;
}
.acts {
  display: flex;
  gap: 8px;
  margin-top: 14px;
}
.bad {
  color: var(--U);
}
</style>
