<script setup lang="ts">
import type { TokenView } from '../../api/client'

// What is said about a token, the gravest first. What one is about lights up beside it.
defineProps<{ view: TokenView }>()
const lit = defineModel<string>('lit', { required: true })
const about = (part: string, pointer?: string) => `${part}${pointer ?? ''}`
</script>

<template>
  <div>
    <h2>
      {{
        view.judgements.length
          ? `${view.judgements.length} judgement${view.judgements.length === 1 ? '' : 's'}`
          : 'Nothing is wrong with it'
      }}
    </h2>
    <div
      v-for="j in view.judgements"
      :key="j.id + (j.pointer ?? '')"
      class="j"
      tabindex="0"
      @mouseenter="lit = about(j.part, j.pointer)"
      @mouseleave="lit = ''"
      @focus="lit = about(j.part, j.pointer)"
      @blur="lit = ''"
    >
      <b class="sev" :class="j.severity">{{ j.severity }}</b>
      <div>
        {{ j.text }}
        <div class="faint">{{ j.why }}</div>
        <div class="faint mono small">{{ j.id }} · {{ j.standard }} · {{ j.part }}{{ j.pointer ?? '' }}</div>
      </div>
    </div>
  </div>
</template>

<style scoped>
h2 {
  margin: 0 0 6px;
}
.j {
  display: grid;
  grid-template-columns: 64px minmax(0, 1fr);
  gap: 8px;
  padding: 6px;
  margin: 0 -6px;
  border-radius: 3px;
  border-bottom: 1px solid var(--hair);
}
.j:hover,
.j:focus-visible {
  background: var(--mill-soft);
}
.sev {
  font-weight: 600;
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
.small {
  font-size: 12px;
}
</style>
