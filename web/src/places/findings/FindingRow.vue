<script setup lang="ts">
import type { FindingLine, Point } from '../../api/client'
import { states } from './filter'
import { placeOf, stateWords, type By } from './groups'
import MarkStrip from './MarkStrip.vue'

// A finding as a row: what is wrong, how grave, its last sweeps, and what became of it.
defineProps<{ f: FindingLine; by: By; points: Point[]; narrow: boolean; chosen: boolean }>()

const means = (f: FindingLine) => f.why || states.find((s) => s.state === f.state)?.means
const callers = (f: FindingLine) =>
  f.callers.length > 2 ? `${f.callers.slice(0, 2).join(', ')} and ${f.callers.length - 2} more` : f.callers.join(', ')
/** What stands behind the title: where, unless the group says that. */
function behind(f: FindingLine, by: By): string {
  if (by !== 'place') return placeOf(f)
  return f.routes.length > 1 ? `${f.routes.length} routes` : ''
}
</script>

<template>
  <div role="gridcell" class="cell">
    <span v-if="chosen" class="kind pick" title="Chosen (Space)">✓</span>
    <span v-else class="kind" :class="`k-${f.kind}`" :title="f.name">{{ f.kind }}</span>
  </div>
  <div role="gridcell" class="cell title" :title="f.title">
    <b>{{ f.title }}</b> <span class="faint" :class="{ mono: by !== 'place' }">{{ behind(f, by) }}</span>
  </div>
  <div role="gridcell" class="cell" :title="f.confidence">
    {{ f.severity }}
    <span v-if="f.confidence !== 'proven'" class="faint likely">{{ f.confidence }}</span>
  </div>
  <div v-if="!narrow" role="gridcell" class="cell faint cut" :title="f.callers.join(', ')">{{ callers(f) }}</div>
  <div role="gridcell" class="cell strip"><MarkStrip :marks="f.marks" :points="points" /></div>
  <div role="gridcell" class="cell state cut" :class="f.state.replace(' ', '-')" :title="means(f)">
    {{ stateWords(f) }}
  </div>
</template>

<style scoped>
.cell {
  min-width: 0;
  white-space: nowrap;
}
.title,
.cut {
  overflow: hidden;
  text-overflow: ellipsis;
}
.kind {
  width: 18px;
  height: 18px;
  font-size: 11px;
}
.pick {
  --c: var(--mill);
  color: var(--on-mill);
}
.likely {
  margin-left: 4px;
}
.title b {
  font-weight: 600;
}
.state {
  text-align: right;
  color: var(--faint);
}
.state.new,
.state.back-again {
  color: var(--ink);
  font-weight: 600;
}
.state.mended {
  color: var(--ok);
}
</style>
