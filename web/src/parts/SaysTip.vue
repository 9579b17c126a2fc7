<script setup lang="ts">
import { NPopover } from 'naive-ui'
import { computed } from 'vue'
import { said } from './says'

// The one place where what chips and heads mean is shown.
const at = computed(() => {
  const r = said.value?.of.getBoundingClientRect()
  return r ? { x: r.left + r.width / 2, y: r.bottom } : { x: 0, y: 0 }
})
</script>

<template>
  <NPopover :show="!!said" :x="at.x" :y="at.y" trigger="manual" placement="bottom" style="max-width: 300px">
    {{ said?.text }}
  </NPopover>
</template>
