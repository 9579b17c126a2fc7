<script setup lang="ts">
import { NInputNumber } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { api, ask, message, type Session } from '../../api/client'
import { span } from '../../parts/time'
import { version } from '../../state/workspace'

const logouts = ref<number | null>(1000)
const list = ref<Session[] | null>(null)
const error = ref('')
watch(
  [version, logouts],
  async () => {
    try {
      list.value = await ask(api.GET('/api/sessions', { params: { query: { logouts: logouts.value ?? 0 } } }))
      error.value = ''
    } catch (e) {
      error.value = message(e)
    }
  },
  { immediate: true },
)

// Seconds and months on one line: the length of a bar grows with the logarithm.
const longest = computed(() => Math.max(60, ...(list.value ?? []).map((s) => (s.bounded ? s.longest : 0))))
function width(seconds: number): string {
  return `${Math.max(1, (100 * Math.log1p(seconds)) / Math.log1p(longest.value))}%`
}
interface Bar {
  name: string
  seconds: number
  says: string
  kind: string
}
function bars(s: Session): Bar[] {
  const out: Bar[] = [
    {
      name: s.kind === 'cookie' ? 'the cookie' : s.kind === 'link' ? 'the link' : 'an access token',
      seconds: s.access + s.skew,
      says: s.access ? `${span(s.access)}${s.skew ? ` and ${span(s.skew)} of clock skew` : ''}` : 'no end is declared',
      kind: s.access ? 'life' : 'endless',
    },
  ]
  if (s.idle) out.push({ name: 'unused', seconds: s.idle, says: `over after ${span(s.idle)}`, kind: 'idle' })
  if (s.renewed)
    out.push({
      name: 'the session',
      seconds: s.bounded ? s.longest : longest.value,
      says: s.bounded ? `at most ${span(s.longest)} from the login` : 'as long as it is renewed',
      kind: s.bounded ? 'life' : 'endless',
    })
  out.push({
    name: 'after logout',
    seconds: s.after,
    says: !s.afterSaid
      ? `nothing ends it: up to ${span(s.after)}`
      : s.after
        ? `works on for ${span(s.after)}`
        : 'refused at once',
    kind: s.afterSaid ? 'life' : 'endless',
  })
  return out
}
</script>

<template>
  <div class="sessions">
    <p v-if="error" class="bad" role="alert">{{ error }}</p>
    <p class="faint">
      What the declared lifetimes come to. Bars are drawn to the logarithm of their length. With
      <NInputNumber
        v-model:value="logouts"
        class="rate"
        size="small"
        :min="0"
        :max="1000000000"
        :show-button="false"
        :input-props="{ 'aria-label': 'Logouts in an hour' }"
      />
      logouts in an hour.
    </p>
    <p v-if="list && !list.length">
      No scheme has a lifetime. Add <span class="mono">lifetimes</span> and name them in the schemes, in the
      <RouterLink to="/declaration">declaration</RouterLink>.
    </p>
    <section v-for="s in list ?? []" :key="s.scheme" class="sheet pad">
      <h2>
        {{ s.scheme }} <span class="faint">{{ s.kind }}</span>
        <RouterLink :to="{ name: 'declaration', query: { line: s.line, file: s.file } }">line {{ s.line }}</RouterLink>
      </h2>
      <div v-for="b in bars(s)" :key="b.name" class="bar">
        <span>{{ b.name }}</span>
        <span class="track"><i :class="b.kind" :style="{ width: width(b.seconds) }"></i></span>
        <span>{{ b.says }}</span>
      </div>
      <ul>
        <li>
          A stolen {{ s.kind === 'bearer' ? 'access token' : s.kind }} opens for
          <b>{{ s.stolenAccess ? span(s.stolenAccess) : 'ever' }}</b> at most.
        </li>
        <li v-if="s.renewed">
          A stolen refresh token renews itself for <b>{{ s.stolenBounded ? span(s.stolenRefresh) : 'ever' }}</b>{{
            s.noticed
              ? ', or until its owner renews: using one twice ends the session.'
              : ', and nobody notices: using one twice does not end the session.'
          }}
        </li>
        <li v-if="s.needsList">
          Refusing ended tokens needs a list: <b>{{ s.size.toLocaleString() }}</b> entries, each kept for
          {{ span(s.entry) }}. Cleared every {{ span(s.sweepEvery) }} it holds at most
          {{ s.sizeSwept.toLocaleString() }}.
        </li>
      </ul>
    </section>
  </div>
</template>

<style scoped>
.sessions {
  display: grid;
  gap: 12px;
}
.sessions > p {
  margin: 0;
}
.rate {
  display: inline-block;
  width: 90px;
  margin: 0 4px;
}
.pad {
  padding: 12px 16px;
}
h2 {
  margin: 0 0 6px;
  font-size: 14px;
  color: var(--ink);
}
h2 .faint,
h2 a {
  font-weight: 400;
  margin-left: 6px;
}
.bar {
  display: grid;
  grid-template-columns: 110px minmax(0, 1fr) 280px;
  gap: 12px;
  align-items: center;
  padding: 2px 0;
}
.track {
  display: block;
  height: 10px;
  background: var(--ground);
  border-radius: 2px;
}
.track i {
  display: block;
  height: 100%;
  border-radius: 2px;
  background: var(--mill);
  opacity: 0.65;
}
.track .idle {
  opacity: 0.35;
}
.track .endless {
  background: var(--X);
  opacity: 1;
}
ul {
  margin: 8px 0 0;
  padding-left: 18px;
}
.bad {
  color: var(--U);
}
</style>
