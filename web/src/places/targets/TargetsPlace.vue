<script setup lang="ts">
import { NButton } from 'naive-ui'
import { storeToRefs } from 'pinia'
import { computed, ref } from 'vue'
import { api, ask } from '../../api/client'
import { useAnswer } from '../../composables/useAnswer'
import { usePending } from '../../stores/pending'
import { useWorkspace } from '../../stores/workspace'
import TargetForm from './TargetForm.vue'
import { blank } from './target'

// The running services that the declaration is checked against.
const { version, target: looked } = storeToRefs(useWorkspace())
const { pending, text } = storeToRefs(usePending())

const now = computed(() => (pending.value ? text.value : ''))
const { answer, error } = useAnswer(
  () => [now.value, version.value],
  () => ask(api.POST('/api/targets/look', { body: { text: now.value } })),
  { keep: true },
)
const list = computed(() => answer.value ?? [])
const name = ref(looked.value)
const fresh = ref(false)
const chosen = computed(() =>
  fresh.value ? blank : (list.value.find((t) => t.name === name.value) ?? list.value[0] ?? null),
)
function choose(n: string) {
  name.value = n
  fresh.value = false
}
</script>

<template>
  <div class="split">
    <nav class="names" aria-label="Targets">
      <button
        v-for="t in list"
        :key="t.name"
        class="bare"
        :class="{ on: !fresh && chosen?.name === t.name }"
        :aria-current="!fresh && chosen?.name === t.name"
        @click="choose(t.name)"
      >
        <b>{{ t.name }}</b><span class="faint mono">{{ t.base }}</span>
      </button>
      <p v-if="error" class="bad" role="alert">{{ error }}</p>
      <p v-else-if="answer && !list.length" class="faint">
        No target yet. A target is a running service that the declaration is checked against.
      </p>
      <NButton @click="fresh = true">Add a target</NButton>
    </nav>
    <TargetForm
      v-if="chosen"
      :key="`${fresh} ${chosen.name}`"
      :target="chosen"
      :fresh="fresh"
      :taken="list.map((t) => t.name)"
      @put="choose"
    />
  </div>
</template>

<style scoped>
.split {
  height: 100%;
  display: grid;
  grid-template-columns: 260px minmax(0, 1fr);
}
.names {
  border-right: 1px solid var(--line);
  padding: 12px;
  display: flex;
  flex-direction: column;
  gap: 4px;
  align-items: stretch;
}
.names button.bare {
  display: grid;
  padding: 6px 8px;
  border-radius: 4px;
  overflow: hidden;
}
.names .mono {
  overflow: hidden;
  text-overflow: ellipsis;
}
.names .on {
  background: var(--sheet);
  box-shadow: inset 3px 0 0 var(--mill);
}
.names > :last-child {
  margin-top: 8px;
}
.bad {
  color: var(--U);
}
</style>
