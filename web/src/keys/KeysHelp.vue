<script setup lang="ts">
import { computed } from 'vue'
import DialogCard from '../parts/DialogCard.vue'
import { allKeys } from './keys'

const show = defineModel<boolean>('show', { required: true })
const list = computed(() => {
  if (!show.value) return []
  const seen = new Set<string>()
  return allKeys().filter((k) => !seen.has(k.keys) && seen.add(k.keys))
})
</script>

<template>
  <DialogCard v-model:show="show" title="Keys" :width="440">
    <dl class="keys">
      <template v-for="k in list" :key="k.keys">
        <dt>
          <kbd v-for="(part, i) in k.keys.split(' ')" :key="i">{{
            part.replace('Arrow', '').replace('Enter', '⏎')
          }}</kbd>
        </dt>
        <dd>{{ k.says }}</dd>
      </template>
    </dl>
  </DialogCard>
</template>

<style scoped>
.keys {
  display: grid;
  grid-template-columns: 96px 1fr;
  row-gap: 4px;
  margin: 0;
}
dd {
  margin: 0;
}
kbd {
  font: 12px/18px var(--mono);
  border: 1px solid var(--line);
  border-radius: 4px;
  padding: 0 6px;
  margin-right: 4px;
}
</style>
