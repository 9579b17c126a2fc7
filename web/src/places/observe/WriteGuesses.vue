<script setup lang="ts">
import { NButton } from 'naive-ui'
import { computed, ref } from 'vue'
import type { Observation } from '../../api/client'
import { glossary } from '../../parts/glossary'
import { vSays } from '../../parts/says'

const props = defineProps<{ guesses: Observation['guesses']; busy: boolean }>()
const emit = defineEmits<{ confirm: [routes: string[]] }>()
const shown = ref(false)
const count = computed(() => props.guesses.reduce((n, g) => n + g.routes.length, 0))
/** An entry without its routes, which stand before it. */
const rule = (text: string) => text.replace('at: [], ', '')
</script>

<template>
  <section class="guesses">
    <p>
      {{ count === 1 ? 'A write was' : `${count} writes were` }} not sent.
      <button class="bare link" :aria-expanded="shown" @click="shown = !shown">
        {{ shown ? 'Hide what they may be' : 'Propose what they may be…' }}
      </button>
      <span v-says="glossary.guessed" class="faint"
        >Guessed from the reads beside them, or from the file that describes them; each stays undecided until you
        confirm it.</span
      >
    </p>
    <ul v-if="shown" class="sheet">
      <li v-for="g in guesses" :key="g.how + g.entry">
        <div class="mono">
          {{ g.routes.join(', ') }}
          <code>{{ rule(g.entry) }}</code>
        </div>
        <span class="faint">{{ g.how }}</span>
        <NButton size="small" :disabled="busy" @click="emit('confirm', g.routes)">Confirm the guess</NButton>
      </li>
    </ul>
  </section>
</template>

<style scoped>
.guesses {
  margin-top: 14px;
}
.link {
  margin: 0 6px;
  color: var(--mill);
  font-weight: 600;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 300px auto;
  gap: 12px;
  align-items: center;
  padding: 8px 14px 8px 16px;
}
li + li {
  border-top: 1px solid var(--line);
}
code {
  display: block;
  font: inherit;
  color: var(--mill);
}
.mono {
  overflow-wrap: anywhere;
}
</style>
