<script setup lang="ts">
import { NButton } from 'naive-ui'
import { ref } from 'vue'
import type { CallerEdit, CallerScheme } from '../../api/client'
import NamedActions from './NamedActions.vue'
import SchemeForm from './SchemeForm.vue'

defineProps<{ schemes: CallerScheme[] }>()
const emit = defineEmits<{ edit: [change: Omit<CallerEdit, 'text'>] }>()
const chosen = ref('')
const adding = ref(false)
function put(change: Omit<CallerEdit, 'text'>) {
  adding.value = false
  emit('edit', change)
}
function choose(name: string) {
  chosen.value = chosen.value === name ? '' : name
}
</script>

<template>
  <section>
    <h2>What they prove it with</h2>
    <p v-if="!schemes.length" class="faint">
      No scheme yet. It says how a caller proves who it is: a token that a login gives, a key, a cookie.
    </p>
    <ul>
      <li v-for="s in schemes" :key="s.name">
        <button class="bare" :aria-expanded="chosen === s.name" title="Rename or remove it" @click="choose(s.name)">
          <b class="mono">{{ s.name }}</b>
        </button>
        <span>{{ s.kind }}</span>
        <span class="mono faint">{{ s.login }}</span>
        <span class="faint">{{ s.routes === 1 ? '1 route takes it' : `${s.routes} routes take it` }}</span>
        <span class="faint">{{ s.users.length ? s.users.join(', ') : 'nobody has it' }}</span>
        <NamedActions
          v-if="chosen === s.name"
          :key="s.name"
          class="acts"
          kind="scheme"
          :name="s.name"
          @edit="(c) => emit('edit', c)"
        />
      </li>
    </ul>
    <SchemeForm v-if="adding" @put="put" @leave="adding = false" />
    <NButton v-else size="small" @click="adding = true">Add a scheme</NButton>
  </section>
</template>

<style scoped>
section {
  padding: 16px 14px;
  border-top: 1px solid var(--line);
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: 120px 80px minmax(120px, 1fr) 130px minmax(0, 1fr);
  gap: 10px;
  padding: 4px 0;
}
.acts {
  grid-column: 1 / -1;
}
</style>
