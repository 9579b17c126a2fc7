<script setup lang="ts">
import { computed } from 'vue'
import type { Sequence } from '../api/client'
import { steps } from './order'

const props = defineProps<{ order: Sequence[] }>()
const chain = computed(() => steps(props.order))
</script>

<template>
  <section class="seen-order" aria-label="Seen order">
    <h2>Seen order</h2>
    <ol class="chain">
      <li v-for="(step, i) in chain" :key="i">
        <span v-for="s in step" :key="s" class="stage">{{ s }}</span>
      </li>
    </ol>
    <ul class="shown">
      <li v-for="s in order" :key="s.first + s.then">
        <span class="pair">{{ s.first }} before {{ s.then }}</span> <span class="faint">{{ s.says }}</span>
      </li>
    </ul>
  </section>
</template>

<style scoped>
.seen-order {
  margin: -6px 0 16px;
}
ol,
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
.chain {
  display: flex;
  align-items: center;
  flex-wrap: wrap;
  margin: 2px 0 6px;
}
.chain li {
  display: flex;
  flex-direction: column;
  gap: 2px;
}
.chain li + li {
  position: relative;
  margin-left: 22px;
}
.chain li + li::before {
  content: '';
  position: absolute;
  left: -18px;
  top: 50%;
  width: 14px;
  border-top: 1px solid var(--faint);
}
.chain li + li::after {
  content: '';
  position: absolute;
  left: -9px;
  top: calc(50% - 2.5px);
  width: 5px;
  height: 5px;
  border-top: 1px solid var(--faint);
  border-right: 1px solid var(--faint);
  transform: rotate(45deg);
}
.stage {
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 0 7px;
  background: var(--ground, transparent);
}
.shown li {
  display: grid;
  grid-template-columns: 156px 1fr;
  gap: 8px;
  font-size: 12.5px;
}
</style>
