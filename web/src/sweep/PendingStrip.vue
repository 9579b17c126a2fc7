<script setup lang="ts">
import { Redo2, Undo2 } from '@lucide/vue'
import { NButton, NInput, useMessage } from 'naive-ui'
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { RouterLink } from 'vue-router'
import { message } from '../api/client'
import { useKeys } from '../keys/keys'
import { summary } from '../parts/changes'
import { usePending } from '../stores/pending'
import { useWorkspace } from '../stores/workspace'
import { storeToRefs } from 'pinia'

const ChangeList = defineAsyncComponent(() => import('../parts/ChangeList.vue'))
const DiffText = defineAsyncComponent(() => import('../parts/DiffText.vue'))

const { busy, canRedo, canUndo, checking, effect, errors, held, kept, pending, problem, stale, text } =
  storeToRefs(usePending())
const { drop, goOn, keep, redo, undo } = usePending()
const { refresh } = useWorkspace()

// Edits that are not kept yet: what they are, what they do, kept or dropped.
const toast = useMessage()
const pulled = ref(false)
const note = ref('')
const fresh = computed(() => {
  const e = effect.value
  return e ? e.messages.filter((m) => !m.waived && e.fresh.includes(m.key)) : []
})
const line = computed(() => {
  if (errors.value)
    return `${errors.value === 1 ? 'An error' : `${errors.value} errors`}: nothing can be said until it is mended.`
  if (!effect.value || checking.value) return 'Working out what changes …'
  return summary(effect.value)
})
watch(pending, (p) => {
  if (!p) pulled.value = false
})

async function keepIt() {
  if (!pending.value || errors.value || busy.value) return
  try {
    const d = await keep(note.value)
    note.value = ''
    toast.success(`Kept as revision ${d.revision}.`)
    void refresh()
  } catch (e) {
    toast.error(message(e), { duration: 8000 })
  }
}
useKeys([
  { keys: 'u', says: 'undo the last edit', run: () => canUndo.value && undo() },
  { keys: 'U', says: 'redo it', run: () => canRedo.value && redo() },
])
</script>

<template>
  <section v-if="pending || canRedo" class="pending" :class="{ quiet: !pending }" aria-label="Pending edits">
    <div v-if="pulled && pending" class="pulled">
      <div>
        <h2>What changes on the board</h2>
        <ChangeList v-if="effect && !effect.failed" :effect="effect" />
        <template v-if="fresh.length">
          <h2 class="gap">What the review says of it</h2>
          <p v-for="m in fresh" :key="m.key">
            <b :class="{ bad: m.level === 'error' || m.severity === 'high' }">{{
              m.level === 'error' ? 'error' : m.severity
            }}</b>
            {{ m.text }}
          </p>
        </template>
      </div>
      <div>
        <h2>The text <RouterLink :to="{ name: 'declaration' }">open it in the editor</RouterLink></h2>
        <DiffText :from="kept?.text ?? ''" :to="text" />
      </div>
    </div>
    <div class="line">
      <button class="bare what" :aria-expanded="pulled" :disabled="!pending" @click="pulled = !pulled">
        <b>{{ pending ? (held.length === 1 ? '1 edit pending' : `${held.length} edits pending`) : 'Edits dropped' }}</b>
        <span v-if="pending" :class="{ bad: errors }" role="status">{{ line }}</span>
        <span v-if="fresh.length" class="warn"
          >{{ fresh.length }} new {{ fresh.length === 1 ? 'message' : 'messages' }} of the review</span
        >
        <span v-if="pending" class="more">{{ pulled ? 'less' : 'more' }}</span>
      </button>
      <span v-if="problem" class="bad">{{ problem }}</span>
      <span v-if="stale" class="bad"
        >Revision {{ kept?.revision }} was kept meanwhile.
        <button class="bare link" @click="goOn">Go on with this text</button></span
      >
      <span class="acts">
        <NButton
          quaternary
          size="small"
          :disabled="!canUndo"
          aria-label="Undo"
          :title="held.length ? `Undo: ${held[held.length - 1]?.title}` : 'Undo'"
          @click="undo"
          ><Undo2 :size="15"
        /></NButton>
        <NButton quaternary size="small" :disabled="!canRedo" aria-label="Redo" title="Redo" @click="redo"
          ><Redo2 :size="15"
        /></NButton>
        <template v-if="pending">
          <NInput
            v-model:value="note"
            size="small"
            class="note"
            :placeholder="held.length === 1 ? held[0]!.title : 'What and why (optional)'"
            :input-props="{ 'aria-label': 'Message of the revision' }"
            @keydown.enter="keepIt"
          />
          <NButton size="small" @click="drop">Drop</NButton>
          <NButton size="small" type="primary" :disabled="errors > 0 || checking" :loading="busy" @click="keepIt"
            >Keep change</NButton
          >
        </template>
      </span>
    </div>
  </section>
</template>

<style scoped>
.pending {
  border-top: 2px solid var(--mill);
  background: var(--sheet);
}
.pending.quiet {
  border-top: 1px solid var(--line);
}
.pulled {
  display: grid;
  grid-template-columns: minmax(0, 2fr) minmax(0, 3fr);
  gap: 24px;
  max-height: 42vh;
  padding: 12px 16px;
  border-bottom: 1px solid var(--line);
}
.pulled > div {
  overflow: auto;
  min-height: 0;
}
.gap {
  margin-top: 12px;
}
h2 a {
  font-weight: 400;
  margin-left: 8px;
}
p {
  margin: 0 0 4px;
}
.line {
  display: flex;
  align-items: center;
  gap: 14px;
  padding: 6px 16px;
  min-height: 40px;
}
.what {
  display: flex;
  gap: 10px;
  align-items: baseline;
  min-width: 0;
}
.what b {
  color: var(--mill);
  white-space: nowrap;
}
.what span {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.what .more {
  color: var(--mill);
  text-decoration: underline;
}
.warn {
  color: var(--W);
}
.bad {
  color: var(--U);
}
.link {
  color: var(--mill);
  text-decoration: underline;
}
.acts {
  margin-left: auto;
  display: flex;
  gap: 8px;
  align-items: center;
}
.note {
  width: 220px;
}
</style>
