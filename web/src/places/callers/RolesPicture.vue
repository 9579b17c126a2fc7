<script setup lang="ts">
import { computed, ref } from 'vue'
import type { CallerEdit, CallerRole } from '../../api/client'
import NamedActions from './NamedActions.vue'
import { chains } from './roles'

const props = defineProps<{ roles: CallerRole[]; on: string[] }>()
const emit = defineEmits<{ edit: [change: Omit<CallerEdit, 'text'>] }>()
const rows = computed(() => chains(props.roles))
const chosen = ref('')
const role = computed(() => props.roles.find((r) => r.name === (chosen.value || props.on[0])))
const says = computed(() => {
  const r = role.value
  if (!r) return ''
  if (!r.includes.length) return `${r.name} opens ${r.opens === 1 ? '1 route' : `${r.opens} routes`}`
  return `${r.name} may what ${r.includes.join(' and ')} may, and ${r.more === 1 ? '1 route' : `${r.more} routes`} more`
})
function choose(name: string) {
  chosen.value = chosen.value === name ? '' : name
}
</script>

<template>
  <div class="roles" role="group" aria-label="Roles, with what they include">
    <div v-for="row in rows" :key="row[0]!.name" class="row">
      <template v-for="(r, n) in row" :key="r.name">
        <span v-if="n" class="arrow" role="img" aria-label="includes"></span>
        <button
          class="bare box"
          :class="{ on: on.includes(r.name) || chosen === r.name }"
          :aria-pressed="chosen === r.name"
          :title="`${r.holders.length ? r.holders.join(', ') : 'nobody has it'}. Click to rename or remove it`"
          @click="choose(r.name)"
        >
          <b>{{ r.name }}</b> <span class="mono faint">{{ r.holders.length }}</span>
        </button>
      </template>
    </div>
    <p class="faint" role="status">{{ says }}</p>
    <NamedActions v-if="chosen" :key="chosen" class="acts" kind="role" :name="chosen" @edit="(c) => emit('edit', c)" />
  </div>
</template>

<style scoped>
.roles {
  margin-top: 14px;
}
.row {
  display: flex;
  align-items: center;
  margin-bottom: 8px;
}
.box {
  padding: 5px 11px;
  border: 1px solid var(--line);
  border-radius: 4px;
  background: var(--sheet);
}
.box.on {
  border-color: var(--mill);
  background: var(--mill-soft);
}
.arrow {
  position: relative;
  width: 26px;
  height: 2px;
  background: var(--mill);
}
.arrow::after {
  content: '';
  position: absolute;
  right: 0;
  top: -4px;
  border: 5px solid transparent;
  border-left-color: var(--mill);
  border-right: 0;
}
p {
  margin: 0;
  min-height: 20px;
}
</style>
