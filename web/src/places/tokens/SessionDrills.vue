<script setup lang="ts">
import { NButton, NPopconfirm, useMessage } from 'naive-ui'
import { computed, ref } from 'vue'
import { api, ask, message, type Session } from '../../api/client'
import { type DrillStep, parts } from '../../parts/drill'
import { ago, exact, useNow } from '../../parts/time'
import { isGap, kindName } from '../../theme/kinds'
import { useWorkspace } from '../../stores/workspace'
import { useSweep } from '../../stores/sweep'
import { storeToRefs } from 'pinia'

const { target } = storeToRefs(useWorkspace())
const { running } = storeToRefs(useSweep())

const props = defineProps<{ session: Session }>()
const toast = useMessage()
const now = useNow()

type Drill = Session['drills'][number]

const pick = ref('')
const rank = (d: Drill) => (isGap(d.kind) ? 0 : d.kind === 'unproven' ? 1 : d.steps.length ? 2 : 3)
const first = computed(() => props.session.drills.reduce((a, b) => (rank(b) < rank(a) ? b : a)))
const drill = computed(() => props.session.drills.find((d) => d.identity === pick.value) ?? first.value)

function measured(s: DrillStep): string {
  const answer = s.status || 'no answer'
  return s.worked ? `works (${answer})` : s.status < 500 && s.status !== 429 ? `refused (${answer})` : String(answer)
}
const second = computed(() => drill.value.steps.findIndex((s) => s.name === 'log in again'))

async function run() {
  try {
    await ask(
      api.POST('/api/probe-again', {
        body: {
          target: target.value,
          crossings: [{ route: drill.value.route, caller: `session:${drill.value.identity}` }],
        },
      }),
    )
  } catch (e) {
    toast.error(message(e))
  }
}

const comparing = ref(false)
const timing = ref('')
async function compare() {
  comparing.value = true
  try {
    const t = await ask(
      api.POST('/api/sessions/timing', {
        body: { target: target.value, identity: drill.value.identity, scheme: props.session.scheme },
      }),
    )
    const medians = `${t.known.toFixed(1)} ms with a known name, ${t.unknown.toFixed(1)} ms with an unknown one (medians of ${t.n} each)`
    timing.value = t.differs
      ? `A hint only: a wrong login takes ${medians}. Such a difference comes by chance once in ${Math.round(1 / Math.max(t.probability, 1e-9)).toLocaleString()} times, so it may tell who has an account.`
      : `No difference that tells who has an account: ${medians}.`
  } catch (e) {
    timing.value = ''
    toast.error(message(e))
  } finally {
    comparing.value = false
  }
}
</script>

<template>
  <div class="drills">
    <div class="who">
      <h3>Drill</h3>
      <button
        v-for="d in session.drills"
        :key="d.identity"
        class="bare pick"
        :class="{ on: d === drill }"
        :aria-pressed="d === drill"
        :title="d.inferred.length ? `stands for ${d.inferred.join(', ')} too` : ''"
        @click="pick = d.identity"
      >
        <span v-if="isGap(d.kind)" class="kind small" :class="`k-${d.kind}`" :title="kindName(d.kind)">{{
          d.kind
        }}</span>
        <span v-else class="mono faint">{{ d.steps.length ? (d.kind === 'agrees' ? '·' : '?') : '' }}</span>
        {{ d.identity }}
      </button>
      <span class="space"></span>
      <NButton size="small" :disabled="!!running" :loading="running?.partial ?? false" @click="run">{{
        drill.steps.length ? 'Run it again' : 'Run the drill'
      }}</NButton>
      <NPopconfirm
        v-if="session.kind === 'bearer' || session.kind === 'cookie'"
        positive-text="Compare"
        negative-text="Leave it"
        @positive-click="compare"
      >
        <template #trigger>
          <NButton size="small" :disabled="!!running" :loading="comparing">Compare login times…</NButton>
        </template>
        <div class="sure">
          This sends 13 logins of {{ drill.identity }} with a wrong secret and as many with an unknown name to
          {{ target }}. A service that locks accounts may lock this one.
        </div>
      </NPopconfirm>
    </div>
    <p v-if="timing" role="status">{{ timing }}</p>
    <p v-if="!drill.steps.length" class="faint">
      {{
        drill.kind === 'unproven'
          ? drill.reason
          : 'Not run yet. A drill logs in, uses, renews and ends two sessions of its own; a sweep runs it too.'
      }}
    </p>
    <template v-else>
      <p v-if="!drill.gaps.length">
        {{ drill.reason }}, <span :title="exact(drill.at)">{{ ago(drill.at, now) }}</span>.
      </p>
      <p v-for="g in drill.gaps" :key="g.reason">
        <span class="kind small" :class="`k-${g.kind}`">{{ g.kind }}</span> {{ g.reason }}
      </p>
      <table>
        <thead>
          <tr>
            <th class="at">after</th>
            <th>step</th>
            <th>declared</th>
            <th>measured</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(s, i) in drill.steps" :key="i" :class="{ parts: parts(s), begins: i === second }">
            <td class="at mono">{{ s.at.toFixed(2) }} s</td>
            <td>{{ s.name }}</td>
            <td class="faint">{{ s.expected || 'not said' }}</td>
            <td>
              <span class="line" :class="{ open: s.worked }" aria-hidden="true"></span>{{ measured(s) }}
              <b v-if="parts(s)"> parts</b>
            </td>
          </tr>
        </tbody>
      </table>
      <RouterLink :to="{ name: 'board', query: { route: drill.route, caller: `session:${drill.identity}` } }"
        >Every request and answer of it</RouterLink
      >
    </template>
  </div>
</template>

<style scoped>
.drills {
  margin-top: 10px;
  padding-top: 8px;
  border-top: 1px solid var(--line);
}
.who {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 12px;
  align-items: center;
}
.who h3 {
  margin: 0;
  font-size: 13px;
  width: 98px;
}
.space {
  flex: 1;
}
.pick {
  padding: 2px 4px;
  border-bottom: 2px solid transparent;
}
.pick.on {
  border-color: var(--mill);
}
.sure {
  max-width: 300px;
}
p {
  margin: 6px 0;
}
table {
  border-collapse: collapse;
  margin: 6px 0;
}
th {
  text-align: left;
  font-weight: 400;
  color: var(--faint);
  padding: 0 24px 2px 0;
}
td {
  padding: 1px 24px 1px 0;
}
.at {
  text-align: right;
  color: var(--faint);
}
.begins td {
  border-top: 1px dashed var(--line);
  padding-top: 3px;
}
.parts td {
  color: var(--X);
}
.parts td.faint {
  color: var(--faint);
}
.line {
  display: inline-block;
  width: 16px;
  height: 11px;
  margin-right: 8px;
  vertical-align: -1px;
  border: solid currentcolor;
  border-width: 0 1.5px;
  background: linear-gradient(currentcolor, currentcolor) center / 100% 3px no-repeat;
  opacity: 0.7;
}
.line.open {
  background: none;
}
</style>
