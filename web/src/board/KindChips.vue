<script setup lang="ts">
import { computed } from 'vue'
import type { Shown } from '../stores/workspace'
import { kinds } from '../theme/kinds'
import { sinceOf } from './filter'

const props = defineProps<{ board: Shown; q: string; notFair: number }>()
const emit = defineEmits<{ toggle: [word: string]; worklist: [] }>()

const chips = computed(() =>
  kinds.flatMap((k) => {
    const crossings = props.board.counts.crossings[k.kind] ?? 0
    const findings = props.board.counts.findings[k.kind] ?? 0
    if (!crossings && !findings) return []
    return [{ ...k, crossings, findings, word: `gap:${k.name.replace(' ', '-')}` }]
  }),
)
const unprobed = computed(() => {
  if (!props.board.sweep) return 0
  let n = 0
  for (const r of props.board.rows) if (r.declared) for (const c of r.access) if (c.found === 'unprobed') n++
  return n
})
const unproven = computed(() => props.board.counts.crossings['unproven'] ?? 0)
const counted = (n: number, what: string) => `${n} ${what}${n === 1 ? '' : 's'}`
const since = computed(() => sinceOf(props.q))
const on = (word: string) => props.q.split(/\s+/).includes(word)
</script>

<template>
  <div class="chips" role="group" aria-label="Kinds of gap, as filters">
    <button
      v-for="c in chips"
      :key="c.kind"
      class="chip"
      :class="{ on: on(c.word) }"
      :aria-pressed="on(c.word)"
      :title="`${c.means}. ${counted(c.findings, 'finding')}, at ${counted(c.crossings, 'crossing')}`"
      @click="emit('toggle', c.word)"
    >
      <span class="kind" :class="`k-${c.kind}`">{{ c.kind }}</span>
      <span>{{ c.findings || c.crossings }} {{ c.name }}</span>
    </button>
    <button
      v-if="unproven"
      class="chip quiet"
      :class="{ on: on('unproven') }"
      :aria-pressed="on('unproven')"
      title="A claim without proof: most often the request was not a fair one yet"
      @click="emit('toggle', 'unproven')"
    >
      <span class="hatch" aria-hidden="true"></span>{{ unproven }} unproven
    </button>
    <button
      v-if="unprobed"
      class="chip quiet"
      :class="{ on: on('unprobed') }"
      :aria-pressed="on('unprobed')"
      title="Crossings that no probe was sent for"
      @click="emit('toggle', 'unprobed')"
    >
      {{ unprobed }} unprobed
    </button>
    <button
      v-if="since"
      class="chip quiet on"
      aria-pressed="true"
      :title="`Only crossings whose verdicts are others now than in sweep ${since}; click to show all`"
      @click="emit('toggle', `since:${since}`)"
    >
      only what changed since sweep {{ since }}
    </button>
    <button
      v-if="board.sweep"
      class="chip quiet"
      :class="{ on: on('gaps') }"
      :aria-pressed="on('gaps')"
      title="Hide rows and columns where everything agrees"
      @click="emit('toggle', 'gaps')"
    >
      only with gaps
    </button>
    <button
      v-if="notFair"
      class="chip quiet"
      title="Requests whose control was not admitted: mend these first"
      @click="emit('worklist')"
    >
      {{ notFair }} not fair yet
    </button>
    <template v-if="board.sweep && !chips.length && board.sweep.state === 'done'">
      <span v-if="!unproven && !unprobed" class="fine">No gaps: the service does what the declaration says.</span>
      <span v-else class="faint">No gaps were found, but not every crossing is proven.</span>
    </template>
  </div>
</template>

<style scoped>
.chips {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  align-items: center;
}
.chip {
  display: flex;
  align-items: center;
  gap: 6px;
  height: 26px;
  padding: 0 9px 0 3px;
  border: 1px solid var(--line);
  border-radius: 4px;
  background: var(--sheet);
  color: var(--ink);
  font: inherit;
  font-size: 13px;
  cursor: pointer;
  white-space: nowrap;
}
.chip.quiet {
  padding-left: 9px;
  color: var(--faint);
}
.chip:hover {
  border-color: var(--mill);
}
.chip.on {
  border-color: var(--mill);
  background: var(--mill-soft);
  color: var(--ink);
}
.hatch {
  width: 14px;
  height: 14px;
  border-radius: 3px;
  background: repeating-linear-gradient(135deg, transparent 0 2.5px, var(--mark) 2.5px 3.5px);
}
.fine {
  color: var(--ok);
}
</style>
