<script setup lang="ts">
import { computed } from 'vue'
import type { FindingDetail, Probe } from '../../api/client'
import { isGap } from '../../theme/kinds'

// What a finding rests on, what would refute it, why it is that grave, and how it is mended.
const props = defineProps<{ detail: FindingDetail; control: Probe['control'] }>()
const f = computed(() => props.detail.finding)

/** What was seen, as counts: "5 answers of 200, 1 of 204". */
const observed = computed(() => {
  const by = new Map<string, number>()
  for (const c of props.detail.crossings) {
    if (!isGap(c.kind)) continue
    const w = c.status ? `answered ${c.status}` : 'seen over several requests'
    by.set(w, (by.get(w) ?? 0) + 1)
  }
  return [...by].map(([w, n]) => `${n} ${w}`).join(', ')
})
</script>

<template>
  <dl>
    <dt>rests on</dt>
    <dd>
      <b>{{ observed || 'nothing that shows it now' }}.</b> {{ f.shown }}
    </dd>
    <dt>refuted by</dt>
    <dd>
      {{ f.refuted }}
      <b v-if="control">Here the control, {{ control.caller }}, was answered {{ control.status || 'nothing' }}.</b>
    </dd>
    <dt>why {{ f.severity }}</dt>
    <dd>{{ f.weighs || 'The sweep that saw it last did not keep it.' }}</dd>
    <dt>means</dt>
    <dd>{{ f.means }}</dd>
    <dt>mend</dt>
    <dd>
      {{ f.advice }} <span v-if="f.standard" class="faint">{{ f.standard }}</span>
    </dd>
    <dt>also</dt>
    <dd>
      {{ f.owasp }} · CWE-{{ f.cwe }}<template v-if="f.rung"> · rung {{ f.rung }}</template
      ><template v-if="f.routes && f.routes.length > 1">
        · <span :title="f.routes.join('\n')">{{ f.routes.length }} routes</span></template
      >
    </dd>
  </dl>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: 88px minmax(0, 1fr);
  gap: 5px 12px;
  margin: 0 0 14px;
}
dt {
  color: var(--faint);
}
dd {
  margin: 0;
}
dd b {
  font-weight: 600;
}
</style>
