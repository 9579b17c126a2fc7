<script setup lang="ts">
import { NCheckbox } from 'naive-ui'
import type { Observation } from '../../api/client'

defineProps<{ left: Observation['left'] }>()
const also = defineModel<string[]>('also', { required: true })
function choose(route: string, on: boolean) {
  also.value = on ? [...also.value, route] : also.value.filter((r) => r !== route)
}
</script>

<template>
  <section class="left">
    <h2>Not asked</h2>
    <ul>
      <li v-for="l in left" :key="l.route + l.caller">
        <span class="mono">{{ l.route }}</span>
        <span v-if="l.caller">as {{ l.caller }}</span>
        <span class="faint">{{ l.why }}</span>
        <NCheckbox
          v-if="l.doubtful"
          :checked="also.includes(l.route)"
          @update:checked="(on: boolean) => choose(l.route, on)"
          >ask it all the same next time</NCheckbox
        >
      </li>
    </ul>
  </section>
</template>

<style scoped>
.left {
  margin-top: 16px;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 12px;
  padding: 2px 0;
}
</style>
