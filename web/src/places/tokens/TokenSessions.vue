<script setup lang="ts">
import { NInputNumber } from 'naive-ui'
import { computed, ref } from 'vue'
import { api, ask, type Session } from '../../api/client'
import { useBeside } from '../../composables/useBeside'
import { span } from '../../parts/time'
import { isGap } from '../../theme/kinds'
import LifeForm from './LifeForm.vue'
import SessionDrills from './SessionDrills.vue'
import { useWorkspace } from '../../stores/workspace'
import { storeToRefs } from 'pinia'

const { target, version } = storeToRefs(useWorkspace())

const logouts = ref<number | null>(1000)
const {
  declared,
  data: list,
  draft,
  error,
} = useBeside<Session[]>(
  (text) => ask(api.POST('/api/sessions/look', { body: { text, logouts: logouts.value ?? 0, target: target.value } })),
  [version, logouts, target],
)
/** The lifetimes of a scheme as they are declared: what forms begin with. */
const livesOf = (scheme: string) => declared.value?.find((s) => s.scheme === scheme)?.lives ?? []

// Seconds and months on one line: the length of a bar grows with the logarithm.
const longest = computed(() =>
  Math.max(
    60,
    ...(list.value ?? []).flatMap((s) => [s.bounded ? s.longest : 0, ...s.drills.map((d) => Math.max(d.life, d.said))]),
  ),
)
function width(seconds: number): string {
  return `${Math.max(1, (100 * Math.log1p(seconds)) / Math.log1p(longest.value))}%`
}
/** Where what was measured is an interval, from its beginning on. */
function stretch(m: NonNullable<Bar['measured']>) {
  const from = m.from ? width(m.from) : '0%'
  return { marginLeft: from, width: `calc(${width(m.seconds)} - ${from})` }
}
interface Bar {
  name: string
  seconds: number
  says: string
  kind: string
  measured?: { seconds: number; from?: number; says: string; over: boolean }
}
/** The drill that says most: one whose session went wrong, or any that was run. */
function telling(s: Session) {
  const run = s.drills.filter((d) => d.steps.length)
  return run.find((d) => d.outlived) ?? run.find((d) => d.kind !== 'agrees') ?? run[0]
}
function life(s: Session): Bar['measured'] {
  const d = telling(s)
  const seconds = d?.life || d?.said
  if (!d || !seconds) return undefined
  return {
    seconds,
    says: `${d.identity}'s: ${span(seconds)}`,
    over: s.access > 0 && seconds > s.access + s.skew + 1,
  }
}
function afterlife(s: Session): Bar['measured'] {
  const d = telling(s)
  if (!d || !d.steps.some((x) => x.name === 'use after the logout')) return undefined
  if (!d.outlived)
    return {
      seconds: d.after,
      says: d.after ? `${d.identity}'s: ${span(d.after)}` : `${d.identity}'s: refused at once`,
      over: d.after > s.after + 1,
    }
  return {
    seconds: d.life || d.waited,
    says: `${d.identity}'s: works on${d.life ? `, by its own end for ${span(d.life)}` : ''}`,
    over: true,
  }
}
/** How the clock of the service was seen to be off, with the interval that bounds it. */
function clocks(s: Session): Bar[] {
  return s.clocks.map((c) => ({
    name: c.side === 'ended' ? 'clock, behind' : 'clock, ahead',
    seconds: s.skew,
    says: s.skew ? `declared: at most ${span(s.skew)}` : 'no skew is declared',
    kind: 'skew',
    measured: {
      seconds: c.most || c.least,
      from: c.most ? c.least : undefined,
      says: `seen: ${!c.most ? 'any' : c.least ? `between ${span(c.least)} and ${span(c.most)}` : `less than ${span(c.most)}`}`,
      over: isGap(c.kind),
    },
  }))
}
function alone(s: Session): Bar['measured'] {
  const a = s.alone.find((x) => x.works) ?? s.alone[0]
  if (!a) return undefined
  return {
    seconds: a.seconds,
    says: `${a.identity}'s, left for ${span(a.seconds)}: ${a.works ? 'works on' : 'refused'}`,
    over: a.works,
  }
}
function bars(s: Session): Bar[] {
  const out: Bar[] = [
    {
      name: s.kind === 'cookie' ? 'the cookie' : s.kind === 'link' ? 'the link' : 'an access token',
      seconds: s.access + s.skew,
      says: s.access ? `${span(s.access)}${s.skew ? ` and ${span(s.skew)} of clock skew` : ''}` : 'no end is declared',
      kind: s.access ? 'life' : 'endless',
      measured: life(s),
    },
  ]
  if (s.idle) {
    const here = s.alone[0]?.idle ?? s.idle
    out.push({
      name: 'unused',
      seconds: s.idle,
      says: `over after ${span(s.idle)}${here === s.idle ? '' : `, here after ${span(here)}`}`,
      kind: 'idle',
      measured: alone(s),
    })
  }
  out.push(...clocks(s))
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
    measured: afterlife(s),
  })
  return out
}
</script>

<template>
  <div class="sessions">
    <p v-if="error" class="bad" role="alert">{{ error }}</p>
    <p class="faint">
      What the declared lifetimes come to, and under each bar what a drill measured. Bars are drawn to the logarithm of
      their length. With
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
        <span class="track">
          <i :class="b.kind" :style="{ width: width(b.seconds) }"></i>
          <i v-if="b.measured" class="measured" :class="{ over: b.measured.over }" :style="stretch(b.measured)"></i>
        </span>
        <span>
          {{ b.says }}
          <span v-if="b.measured" class="seen" :class="{ over: b.measured.over }">{{ b.measured.says }}</span>
        </span>
      </div>
      <LifeForm v-for="l in livesOf(s.scheme)" :key="l.of" :life="l" :kind="s.kind" @draft="draft = $event" />
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
      <SessionDrills v-if="s.drills.length" :session="s" />
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
  background: var(--ground);
  border-radius: 2px;
}
.track i {
  display: block;
  height: 10px;
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
.track .measured {
  height: 5px;
  margin-top: 1px;
  background: var(--ink);
  opacity: 0.7;
}
.track .measured.over {
  background: var(--X);
  opacity: 1;
}
.seen {
  display: block;
  color: var(--faint);
}
.seen.over {
  color: var(--X);
  font-weight: 600;
}
ul {
  margin: 8px 0 0;
  padding-left: 18px;
}
.bad {
  color: var(--U);
}
</style>
