<script setup lang="ts">
import { NDropdown } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { api, ask, message, type CallerEdit, type CallerTried, type TokenView } from '../../api/client'
import ExchangeView from '../../drawer/ExchangeView.vue'
import { exact } from '../../parts/time'
import { named, type Leaf } from './answer'

const props = defineProps<{ tried: CallerTried; identity: string; scheme: string; target: string }>()
const emit = defineEmits<{ edit: [change: Omit<CallerEdit, 'text'>] }>()

const lines = computed(() =>
  props.tried.takes.length ? named(props.tried.exchange?.content ?? '', props.tried.takes) : [],
)
const whole = ref(false)
const token = ref<TokenView | null>(null)
const unread = ref('')
const words: Record<string, string> = {
  access: 'the access token',
  refresh: 'the refresh token',
  life: 'its life in seconds',
}
/** What a value can be: a life is a number, a token is none. */
const options = (l: Leaf) =>
  Object.entries(words)
    .filter(([key]) => (key === 'life') === /^\d+$/.test(l.value))
    .map(([key, label]) => ({ key, label }))
function say(what: string, l: Leaf) {
  const change = { kind: 'scheme' as const, name: props.scheme, to: what }
  if (what === 'life') emit('edit', { ...change, do: 'set', scheme: l.value })
  else emit('edit', { ...change, do: 'take', scheme: l.pointer })
}
const written = ref(new Set<string>())
function write(o: CallerTried['offers'][number]) {
  written.value.add(o.says)
  emit('edit', o.change)
}
const asked = new Set(['iss', 'aud', 'sub', 'exp', 'iat', 'roles', 'groups', 'scope', 'scp', 'permissions'])

// A token that can be read is judged beside the declaration, as on the bench.
watch(
  () => props.tried,
  async (t) => {
    token.value = null
    unread.value = ''
    written.value.clear()
    if (!t.token) return
    try {
      token.value = await ask(
        api.POST('/api/tokens/judge', {
          body: {
            text: '',
            kept: '',
            refresh: false,
            target: props.target,
            identity: props.identity,
            scheme: props.scheme,
            obtain: true,
          },
        }),
      )
    } catch (e) {
      unread.value = message(e)
    }
  },
  { immediate: true },
)
const claims = computed(() => token.value?.claims.filter((c) => asked.has(c.name)) ?? [])
const wrong = computed(() => token.value?.judgements ?? [])
</script>

<template>
  <section>
    <h2 class="said">
      {{ tried.takes.length ? 'What the login answered' : 'What was answered' }}
      <span v-if="lines.length" class="faint">click a value and say what it is</span>
    </h2>
    <p v-if="tried.state !== 'obtained'" class="bad" role="alert">{{ tried.why }}</p>
    <div v-if="tried.exchange" class="answer mono">
      <div class="head">
        <b>{{ tried.exchange.status || 'no answer' }}</b>
        <span class="faint asked">{{ tried.request }}, {{ Math.round(tried.exchange.ms) }} ms</span>
        <button class="bare link" :aria-expanded="whole" @click="whole = !whole">
          {{ whole ? 'hide' : 'what was sent' }}
        </button>
      </div>
      <ExchangeView v-if="whole || !lines.length" :exchange="tried.exchange" />
      <div v-for="l in whole ? [] : lines" :key="l.pointer" class="line" :style="{ paddingLeft: `${l.depth * 16}px` }">
        <span
          >{{ l.name }}: <span class="faint">{{ l.value }}</span></span
        >
        <NDropdown v-if="l.value" trigger="click" :options="options(l)" @select="(k: string) => say(k, l)">
          <button class="bare chip" :class="{ is: l.is }">
            {{ l.is ? (words[l.is] ?? l.is) : 'say what it is…' }}
          </button>
        </NDropdown>
      </div>
    </div>
    <template v-if="token">
      <h2 class="said">The token says</h2>
      <dl>
        <template v-for="c in claims" :key="c.name">
          <dt :title="c.means">{{ (c.means || c.name).split(':')[0] }}</dt>
          <dd class="mono">{{ c.date ? exact(c.date) : c.value }}</dd>
        </template>
      </dl>
      <p v-if="!wrong.length" class="ok">It is as declared, as far as that can be told.</p>
      <ul v-else>
        <li v-for="j in wrong" :key="j.id">
          {{ j.text }} <span class="faint">{{ j.standard }}</span>
        </li>
      </ul>
    </template>
    <template v-if="tried.offers.length">
      <h2 class="said">It says what is not declared <span class="faint">click what shall be so</span></h2>
      <ul class="offers">
        <li v-for="o in tried.offers" :key="o.says">
          <span :title="o.why || undefined">{{ o.says }}<span v-if="o.why" class="faint"> · its own word</span></span>
          <span v-if="written.has(o.says)" class="ok">written</span>
          <button v-else class="bare chip" @click="write(o)">declare it</button>
        </li>
      </ul>
    </template>
    <p v-if="unread" class="faint">The token could not be read beside the declaration: {{ unread }}</p>
  </section>
</template>

<style scoped>
.said {
  margin: 12px 0 6px;
  color: var(--ink);
}
.said .faint {
  font-weight: 400;
}
.answer {
  padding: 8px 12px;
  background: var(--ground);
  border: 1px solid var(--line);
  border-radius: 4px;
}
.head {
  margin-bottom: 4px;
}
.asked {
  margin-left: 8px;
}
.line {
  display: flex;
  justify-content: space-between;
  gap: 10px;
  padding: 2px 0;
  overflow-wrap: anywhere;
}
.chip {
  flex: none;
  align-self: start;
  padding: 0 9px;
  border: 1px solid var(--line);
  border-radius: 10px;
  font: 12.5px/18px var(--text);
  color: var(--faint);
}
.chip.is {
  border-color: var(--mill);
  color: var(--mill);
}
dl {
  display: grid;
  grid-template-columns: 150px minmax(0, 1fr);
  gap: 3px 10px;
  margin: 0 0 8px;
}
dt {
  color: var(--faint);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.ok {
  color: var(--ok);
}
.bad {
  color: var(--U);
  margin: 4px 0;
}
.link {
  color: var(--mill);
  margin-left: 8px;
}
ul {
  margin: 0;
  padding-left: 18px;
}
.offers {
  padding: 0;
  list-style: none;
}
.offers li {
  display: flex;
  justify-content: space-between;
  gap: 10px;
  padding: 2px 0;
  overflow-wrap: anywhere;
}
</style>
