<script setup lang="ts">
import { storeToRefs } from 'pinia'
import { computed, watch } from 'vue'
import { RouterLink } from 'vue-router'
import { useObserving } from '../stores/observing'
import { usePending } from '../stores/pending'
import { useSteps } from '../stores/steps'
import { useWorkspace } from '../stores/workspace'
import { stepsOf } from './steps'
import { glossary } from '../parts/glossary'
import { vSays } from '../parts/says'

/** What stands before the first sweep, step by step. It goes away when that is done, or when somebody says so. */
const { board, target, version } = storeToRefs(useWorkspace())
const { text } = storeToRefs(usePending())
const { seen } = storeToRefs(useObserving()) // it tells who gets in, too
const { look, hide } = useSteps()
const { found, over } = storeToRefs(useSteps())

const steps = computed(() => (found.value ? stepsOf(found.value, board.value?.sweep ? board.value.notFair : null) : []))
const next = computed(() => steps.value.find((s) => !s.done))

watch([text, target, version, over, seen], () => void look(), { immediate: true })
</script>

<template>
  <!-- It has its place as soon as there is a board, so that nothing moves away under the hand when it is filled. -->
  <nav v-if="!over" class="steps" aria-label="Until the first sweep">
    <span class="faint">Until the first sweep</span>
    <RouterLink
      v-for="s in steps"
      :key="s.name"
      v-says="glossary[s.name]"
      :to="s.to"
      :class="{ done: s.done, next: s === next }"
      :aria-current="s === next ? 'step' : undefined"
    >
      <i aria-hidden="true">{{ s.done ? '✓' : '' }}</i><b>{{ s.name }}</b> {{ s.says
      }}<span v-if="s.done" class="visually-hidden">, done</span>
    </RouterLink>
    <button class="bare" @click="hide">Hide</button>
  </nav>
</template>

<style scoped>
.steps {
  display: flex;
  align-items: center;
  gap: 4px 18px;
  flex-wrap: wrap;
  min-height: 35px;
  box-sizing: border-box;
  padding: 7px 20px;
  font-size: 13px;
  background: var(--mill-soft);
  border-bottom: 1px solid var(--line);
}
a {
  display: inline-flex;
  align-items: center;
  gap: 5px;
  color: var(--ink);
  text-decoration: none;
}
a b {
  font-weight: 600;
}
i {
  width: 14px;
  height: 14px;
  border: 1.5px solid var(--mill);
  border-radius: 50%;
  font: 700 10px/11px var(--mono);
  text-align: center;
  color: var(--sheet);
}
.done i {
  background: var(--mill);
}
.next b {
  text-decoration: underline;
  text-underline-offset: 3px;
}
.bare {
  margin-left: auto;
  color: var(--faint);
}
</style>
