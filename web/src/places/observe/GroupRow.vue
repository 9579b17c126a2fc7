<script setup lang="ts">
import { NButton } from 'naive-ui'
import { computed } from 'vue'
import type { ObservedGroup, ObservedMark } from '../../api/client'
import type { Column } from './columns'
import RouteReads from './RouteReads.vue'
import { glossary } from '../../parts/glossary'
import { vSays } from '../../parts/says'

const props = defineProps<{ group: ObservedGroup; callers: Column[]; target: string; open: boolean; busy: boolean }>()
const emit = defineEmits<{ toggle: []; confirm: []; decide: [] }>()

const looks: Record<ObservedMark, [string, string]> = {
  in: ['open', 'gets in'],
  some: ['some', 'gets in on some records'],
  away: ['shut', 'is turned away'],
  unknown: ['undecided', 'not known'],
}
const says = (at: number) => {
  const on = props.group.on[at]
  return on ? `gets in ${on}` : looks[props.group.marks[at]!][1]
}
const few = 3
const routes = computed(() => props.group.routes.slice(0, few).join(', '))
const more = computed(() => props.group.routes.length - few)
</script>

<template>
  <tr :class="{ odd: group.odd, done: group.confirmed }">
    <td class="title">
      <button class="bare" :aria-expanded="open" @click="emit('toggle')">
        <b>{{ group.title }}</b>
      </button>
      <span v-if="group.odd" v-says="glossary.wrong" class="wrong"> looks wrong</span>
      <span v-else-if="group.guessed" v-says="glossary.guessed" class="wrong"> guessed</span>
      <p class="faint">{{ group.says }}</p>
    </td>
    <td v-for="c in callers" :key="c.at" class="mark">
      <i
        class="gate"
        :class="looks[group.marks[c.at]!][0]"
        role="img"
        :aria-label="`${c.label} ${says(c.at)}`"
        :title="`${c.says}: ${says(c.at)}`"
      ></i>
    </td>
    <td class="do">
      <span v-if="group.confirmed" v-says="glossary.confirmed" class="ok">confirmed</span>
      <template v-else-if="group.entry">
        <NButton v-if="!group.odd" size="small" type="primary" :disabled="busy" @click="emit('confirm')"
          >Confirm</NButton
        >
        <NButton size="small" :disabled="busy" title="Write another rule for these routes" @click="emit('decide')"
          >Decide…</NButton
        >
        <button
          v-if="group.odd"
          class="bare link"
          :disabled="busy"
          title="Declare that this is as it should be"
          @click="emit('confirm')"
        >
          It is meant so
        </button>
      </template>
      <NButton v-else size="small" :disabled="busy" @click="emit('decide')">Decide…</NButton>
    </td>
  </tr>
  <tr :class="{ odd: group.odd, done: group.confirmed }">
    <td :colspan="callers.length + 2" class="entry mono">
      <button
        class="bare faint"
        :title="open ? 'Hide what was answered' : 'See what was answered'"
        @click="emit('toggle')"
      >
        {{ routes }}<template v-if="more > 0">, {{ more }} more</template>
      </button>
      <code v-if="group.entry">- {{ group.entry }}</code>
    </td>
  </tr>
  <tr v-if="open">
    <td :colspan="callers.length + 2" class="reads">
      <RouteReads v-for="r in group.routes" :key="r" :target="target" :route="r" />
    </td>
  </tr>
</template>

<style src="../../board/marks.css" scoped></style>
<style scoped>
td {
  padding: 8px 8px 2px;
  vertical-align: middle;
}
.title {
  padding-left: 16px;
  width: 300px;
}
.title p {
  margin: 0;
  font-size: 13px;
}
.odd td {
  background: color-mix(in srgb, var(--P) 8%, var(--sheet));
}
.wrong {
  color: var(--P);
  font-weight: 600;
  font-size: 13px;
}
.mark {
  text-align: center;
  min-width: 52px;
}
.mark i {
  display: inline-block;
  --mark: var(--ink);
}
.done .mark i {
  --mark: var(--faint);
}
.entry {
  padding: 2px 16px 8px;
  border-bottom: 1px solid var(--line);
  overflow-wrap: anywhere;
}
.entry code {
  display: block;
  font: inherit;
  color: var(--mill);
}
.do {
  white-space: nowrap;
  text-align: right;
  padding-right: 14px;
}
.do > * + * {
  margin-left: 6px;
}
.ok {
  color: var(--ok);
  font-weight: 600;
}
.link {
  color: var(--mill);
  text-decoration: underline;
  font-size: 13px;
}
.reads {
  background: var(--ground);
  padding: 8px 16px;
}
</style>
