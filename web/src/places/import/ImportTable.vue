<script setup lang="ts">
import { NButton, NCheckbox, NInput, NSelect } from 'naive-ui'
import { ref } from 'vue'
import { kindName, states, useImport, type Row } from './useImport'
import { glossary } from '../../parts/glossary'
import { vSays } from '../../parts/says'

// The routes of the source, each with what is known of it, to be taken or left.
const { all, correct, counts, preview, rows, shown, visible, whole } = useImport()
const correcting = ref('')
const correction = ref('')
function begin(r: Row) {
  correcting.value = r.key
  correction.value = r.key.split(' ')[1] ?? ''
}
async function use(path: string) {
  const template = path.trim().replace(/^[^/]*:(?=\/)/, '') // a host goes with the import, not with a path
  correcting.value = ''
  if (template) await correct(template)
}
const effects = (['', 'read', 'create', 'update', 'delete', 'command'] as const).map((v) => ({
  value: v,
  label: v || 'by method',
}))
const levels = (['', 'low', 'medium', 'high'] as const).map((v) => ({ value: v, label: v || 'medium' }))
</script>

<template>
  <div class="states" role="group" aria-label="States">
    <button
      v-for="st in states.filter((x) => counts[x.id])"
      :key="st.id"
      v-says="st.means"
      class="chip"
      :class="{ on: shown === st.id }"
      :aria-pressed="shown === st.id"
      @click="shown = shown === st.id ? '' : st.id"
    >
      {{ counts[st.id] }} {{ st.name }}
    </button>
    <span class="faint">read as {{ kindName(preview?.kind ?? '') }}</span>
    <span v-if="!whole" class="end">
      <button class="bare link" @click="all(true)">take all shown</button>
      <button class="bare link" @click="all(false)">take none</button>
    </span>
  </div>
  <div class="sheet list">
    <table class="plain">
      <thead>
        <tr>
          <th v-if="!whole" v-says="glossary.take">Take</th>
          <th v-says="glossary.route">Route</th>
          <th v-says="glossary.state">State</th>
          <th v-says="glossary.effect">Effect</th>
          <th v-says="glossary.sensitivity">Sensitivity</th>
          <th v-says="glossary.group">Group</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in visible.slice(0, 500)" :key="r.key" :class="{ off: !whole && !r.take }">
          <td v-if="!whole">
            <NCheckbox v-model:checked="r.take" :aria-label="`Take ${r.key}`" :disabled="r.state === 'same'" />
          </td>
          <td>
            <div class="mono">{{ r.key }}</div>
            <div v-if="r.summary" class="faint">{{ r.summary }}</div>
            <div v-if="!whole && (r.count || r.sample)" class="seen faint">
              <template v-if="r.count">
                {{ r.count }} ×
                <span v-if="r.key.includes('{')" class="mono" :title="r.paths.join('\n')">{{
                  r.paths.slice(0, 2).join(' ')
                }}</span>
                <button v-if="r.state !== 'same'" class="bare link" @click="begin(r)">correct</button>
              </template>
              <NCheckbox v-if="r.sample" v-model:checked="r.useSample" size="small" :title="r.sample"
                >with its sample</NCheckbox
              >
            </div>
            <div v-if="correcting === r.key" class="correct">
              <NInput
                v-model:value="correction"
                size="small"
                class="mono"
                :input-props="{ 'aria-label': 'The template it belongs to', spellcheck: false }"
                @keydown.enter="use(correction)"
                @keydown.esc="correcting = ''"
              />
              <NButton size="small" @click="use(correction)">Use this template</NButton>
              <div>
                or keep one apart:
                <button v-for="p in r.paths" :key="p" class="bare link mono" @click="use(p)">{{ p }}</button>
              </div>
            </div>
          </td>
          <td>
            <b :class="r.state">{{ r.state === 'same' ? 'the same' : r.state }}</b>
            <div v-if="r.note" class="faint">{{ r.note }}</div>
          </td>
          <td>
            <NSelect
              v-model:value="r.say.effect"
              size="tiny"
              class="tiny"
              :options="effects"
              :aria-label="`Effect of ${r.key}`"
              :consistent-menu-width="false"
            />
          </td>
          <td>
            <NSelect
              v-model:value="r.say.sensitivity"
              size="tiny"
              class="tiny"
              :options="levels"
              :aria-label="`Sensitivity of ${r.key}`"
              :consistent-menu-width="false"
            />
          </td>
          <td>
            <NInput
              v-model:value="r.say.group"
              size="tiny"
              class="tiny"
              placeholder=""
              :input-props="{ 'aria-label': `Group of ${r.key}` }"
            />
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="!visible.length" class="faint none">
      {{ rows.length ? 'Every route of it is known as it is.' : 'There is no route in it.' }}
    </p>
    <p v-if="visible.length > 500" class="faint none">and {{ visible.length - 500 }} more</p>
  </div>
</template>

<style scoped>
.states {
  display: flex;
  gap: 8px;
  align-items: center;
  margin-bottom: 8px;
}
.chip {
  height: 26px;
  padding: 0 10px;
  border: 1px solid var(--line);
  border-radius: 4px;
  background: var(--sheet);
  color: var(--ink);
  font: inherit;
  font-size: 13px;
  cursor: pointer;
}
.chip.on {
  border-color: var(--mill);
  background: var(--mill-soft);
}
.link {
  color: var(--mill);
  margin: 0 6px;
}
.end {
  margin-left: auto;
  display: flex;
  gap: 12px;
}
.list {
  max-height: 56vh;
  overflow: auto;
  margin-bottom: 12px;
}
.list thead th {
  position: sticky;
  top: 0;
  background: var(--sheet);
  z-index: 1;
}
.list td {
  padding: 5px 12px;
}
.off .mono {
  color: var(--faint);
}
.unclear {
  color: var(--W);
}
.gone {
  color: var(--P);
}
.new {
  color: var(--mill);
}
.tiny {
  width: 112px;
}
.seen {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 0 10px;
  font-size: 13px;
}
.seen .mono {
  overflow-wrap: anywhere;
}
.none {
  padding: 12px 16px;
}
.correct {
  display: grid;
  grid-template-columns: 260px auto;
  gap: 6px;
  padding: 6px 0;
}
.correct > div:last-child {
  grid-column: 1 / -1;
}
</style>
