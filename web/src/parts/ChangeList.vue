<script setup lang="ts">
import { computed } from 'vue'
import type { Effect } from '../api/client'
import { summary, type Changes } from './changes'

const props = defineProps<{
  effect: Changes & Pick<Effect, 'changes'>
  most?: number
}>()
const shown = computed(() => props.effect.changes.slice(0, props.most ?? 200))
const signs = { opens: '↑', closes: '↓', other: '·', undecides: '?' } as const
</script>

<template>
  <div>
    <p>
      <b>{{ summary(effect) }}</b>
    </p>
    <ul class="changes">
      <li v-for="(c, i) in shown" :key="i">
        <span class="sign" :class="c.turn" :title="c.turn">{{ signs[c.turn] }}</span>
        <span
          ><span class="visually-hidden">{{ c.turn }}: </span>{{ c.caller || 'nobody' }} at
          <span class="mono">{{ c.route }}</span>
          <span class="faint"> {{ c.from }} → {{ c.to }}</span></span
        >
      </li>
      <li v-for="r in effect.added.slice(0, 50)" :key="r">
        <span class="sign">+</span
        ><span
          >new route <span class="mono">{{ r }}</span></span
        >
      </li>
      <li v-for="r in effect.gone.slice(0, 50)" :key="r">
        <span class="sign closes">−</span
        ><span
          >gone <span class="mono">{{ r }}</span></span
        >
      </li>
      <li v-for="(f, i) in effect.waived ?? []" :key="`w${i}`">
        <span class="sign">✓</span><span>waived: {{ f }}</span>
      </li>
      <li v-for="(f, i) in effect.reopened ?? []" :key="`r${i}`">
        <span class="sign">○</span><span>waived no longer: {{ f }}</span>
      </li>
    </ul>
    <p v-if="effect.total > shown.length" class="faint">and {{ effect.total - shown.length }} more</p>
  </div>
</template>

<style scoped>
p {
  margin: 0 0 6px;
}
.changes {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: 18px minmax(0, 1fr);
  padding: 2px 0;
}
.faint {
  margin-left: 6px;
}
.sign {
  font-weight: 700;
  color: var(--faint);
}
.opens {
  color: var(--P);
}
.closes {
  color: var(--mill);
}
</style>
