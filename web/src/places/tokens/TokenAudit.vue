<script setup lang="ts">
import { NButton } from 'naive-ui'
import { computed } from 'vue'
import { useAudit } from './useAudit'

const { file, result, error, stopper, progress, part, pick, drop } = useAudit()
const groups = ['issuer', 'scheme', 'client', 'kind', 'algorithm']
const most = computed(() => Math.max(1, ...(result.value?.lifetimes ?? []).map((s) => s.count)))
function upTo(s: number) {
  if (!s) return 'longer'
  if (s < 3600) return `${s / 60} min`
  if (s < 86400) return `${s / 3600} h`
  return `${s / 86400} d`
}
</script>

<template>
  <div class="audit">
    <div class="sheet drop" @dragover.prevent @drop.prevent="drop">
      <label class="pick">
        <b>Choose a file</b> of tokens, or drop it here: one on each line, JSON lines, a HAR archive, a log.
        <input type="file" class="hide" aria-label="File of tokens" @change="pick" />
      </label>
      <p class="faint">It is read as a stream and judged on this machine. No token is kept.</p>
      <div v-if="stopper" class="run" role="status">
        <progress :value="part" max="100" aria-label="Read"></progress>
        {{ progress?.tokens ?? 0 }} tokens, {{ part }} % of {{ file }}
        <NButton size="small" @click="stopper.abort()">Stop</NButton>
      </div>
    </div>
    <p v-if="error" class="bad" role="alert">{{ error }}</p>
    <template v-if="result">
      <p class="sum">
        <b>{{ result.tokens }} tokens</b> in {{ file }}, {{ result.distinct }} different, {{ result.sound }} of them
        sound<template v-if="result.unsure">, {{ result.unsure }} of which nobody can tell</template
        ><b v-if="result.endless" class="bad">, {{ result.endless }} without an end</b>.
      </p>
      <p v-if="!result.tokens">
        There is no token in it. A compact JWS begins with eyJ; opaque tokens need a line each.
      </p>
      <div v-else class="cols">
        <section class="sheet pad">
          <h2>What is wrong</h2>
          <p v-if="!result.tallies.length">Nothing.</p>
          <details v-for="t in result.tallies" :key="t.id" class="t">
            <summary>
              <b :class="t.severity">{{ t.severity }}</b> <span class="n">{{ t.count }} ×</span> {{ t.text }}
            </summary>
            <p class="faint">{{ t.why }} {{ t.standard }}</p>
            <p v-for="e in t.examples" :key="e.fingerprint" class="mono small">
              line {{ e.line }} {{ e.fingerprint }} {{ e.subject }}
            </p>
          </details>
        </section>
        <section class="sheet pad">
          <h2>How long they live</h2>
          <p v-if="!result.lifetimes.some((x) => x.count)" class="faint by">
            None of them says when it begins and ends.
          </p>
          <div v-for="s in result.lifetimes.filter((x) => x.count)" :key="s.upTo" class="bar">
            <span>{{ s.upTo ? 'up to ' : '' }}{{ upTo(s.upTo) }}</span>
            <span class="track"
              ><i :style="{ width: `${(100 * (s.count - s.tooLong)) / most}%` }"></i
              ><i class="over" :style="{ width: `${(100 * s.tooLong) / most}%` }"></i
            ></span>
            <span
              >{{ s.count }}<b v-if="s.tooLong" class="S">, {{ s.tooLong }} too long</b></span
            >
          </div>
          <template v-for="g in groups" :key="g">
            <h3 v-if="result.groups[g]?.length">By {{ g }}</h3>
            <p class="by">
              <span v-for="c in (result.groups[g] ?? []).slice(0, 6)" :key="c.name"
                >{{ c.name }} <span class="faint">{{ c.count }}</span></span
              >
              <span v-if="(result.groups[g] ?? []).length > 6" class="faint"
                >and {{ (result.groups[g] ?? []).length - 6 }} more</span
              >
            </p>
          </template>
        </section>
      </div>
      <section v-if="result.powerful.length" class="sheet pad">
        <h2>They open most</h2>
        <table class="plain">
          <thead>
            <tr>
              <th>Line</th>
              <th>Token</th>
              <th>Subject</th>
              <th>Scheme</th>
              <th>Routes</th>
              <th>Change something</th>
              <th>Not granted</th>
              <th>Gravest judgement</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="s in result.powerful.slice(0, 20)" :key="s.fingerprint">
              <td>{{ s.line }}</td>
              <td class="mono">{{ s.fingerprint }}</td>
              <td>{{ s.subject }}</td>
              <td>{{ s.scheme }}</td>
              <td>{{ s.opens }}</td>
              <td>{{ s.unsafe }}</td>
              <td :class="{ bad: s.beyond }">{{ s.beyond }}</td>
              <td>{{ s.text }}</td>
            </tr>
          </tbody>
        </table>
      </section>
      <section v-if="result.offenders.length" class="sheet pad">
        <h2>The worst</h2>
        <table class="plain">
          <thead>
            <tr>
              <th>Line</th>
              <th>Token</th>
              <th>Subject</th>
              <th>Issuer</th>
              <th>Judgements</th>
              <th>Gravest</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="s in result.offenders.slice(0, 20)" :key="s.fingerprint">
              <td>{{ s.line }}</td>
              <td class="mono">{{ s.fingerprint }}</td>
              <td>{{ s.subject }}</td>
              <td class="mono">{{ s.issuer }}</td>
              <td>{{ s.wrong }}</td>
              <td>
                <b :class="s.severity">{{ s.severity }}</b> {{ s.text }}
              </td>
            </tr>
          </tbody>
        </table>
      </section>
    </template>
  </div>
</template>

<style scoped>
.audit {
  display: grid;
  gap: 12px;
}
.drop {
  padding: 16px;
}
.drop p {
  margin: 4px 0 0;
}
.pick {
  position: relative;
  cursor: pointer;
}
.pick b {
  color: var(--mill);
}
.hide {
  position: absolute;
  opacity: 0;
  width: 1px;
}
.run {
  display: flex;
  gap: 12px;
  align-items: center;
  margin-top: 8px;
}
.sum {
  margin: 0;
}
.cols {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 12px;
}
.pad {
  padding: 12px 16px;
}
h2 {
  margin: 0 0 6px;
}
h3 {
  margin: 8px 0 0;
  font-size: 13px;
  color: var(--faint);
}
.t {
  padding: 5px 0;
  border-bottom: 1px solid var(--hair);
}
.t summary {
  cursor: pointer;
}
.t p {
  margin: 2px 0 2px 16px;
}
.n {
  display: inline-block;
  min-width: 44px;
  text-align: right;
}
.small {
  font-size: 12px;
}
.by {
  margin: 0;
}
.by > span {
  margin-right: 12px;
  overflow-wrap: anywhere;
}
.bar {
  display: grid;
  grid-template-columns: 84px 1fr 120px;
  gap: 8px;
  align-items: center;
}
.track {
  display: flex;
  height: 10px;
}
.track i {
  background: var(--mill);
  opacity: 0.6;
}
.track i.over {
  background: var(--X);
  opacity: 1;
}
.S {
  color: var(--X);
  font-weight: 400;
}
.critical,
.high,
.bad {
  color: var(--U);
}
.medium {
  color: var(--W);
}
.low {
  color: var(--faint);
}
</style>
