<script setup lang="ts">
import { NButton, NInput, useMessage } from 'naive-ui'
import { ref } from 'vue'
import { message } from '../../api/client'
import { summary } from '../../parts/changes'
import { usePending } from '../../stores/pending'
import { useWorkspace } from '../../stores/workspace'

// What the pending text does, to be kept or dropped.
const p = usePending()
const { refresh } = useWorkspace()
const toast = useMessage()
const note = ref('')
async function keep() {
  if (!p.pending || p.errors || p.busy) return
  try {
    const d = await p.keep(note.value)
    note.value = ''
    toast.success(`Kept as revision ${d.revision}.`)
    void refresh()
  } catch (e) {
    toast.error(message(e), { duration: 8000 })
  }
}
defineExpose({ keep })
</script>

<template>
  <div class="keep">
    <div class="sum" role="status">
      {{
        p.errors
          ? `${p.errors === 1 ? 'An error' : `${p.errors} errors`} to mend first.`
          : p.effect && !p.checking
            ? summary(p.effect)
            : 'Working out what changes …'
      }}
    </div>
    <div v-if="p.stale" class="bad">
      Revision {{ p.kept?.revision }} was kept meanwhile.
      <button class="bare link" @click="p.goOn">Go on with this text</button>
    </div>
    <NInput
      v-model:value="note"
      placeholder="What and why (optional)"
      :input-props="{ 'aria-label': 'Message of the revision' }"
      @keydown.enter="keep"
    />
    <div class="acts">
      <NButton type="primary" :disabled="p.errors > 0 || p.checking" :loading="p.busy" @click="keep"
        >Keep change</NButton
      >
      <NButton @click="p.drop">Drop it</NButton>
    </div>
  </div>
</template>

<style scoped>
.keep {
  padding: 12px 16px;
  border-top: 2px solid var(--mill);
  display: grid;
  gap: 8px;
}
.acts {
  display: flex;
  gap: 8px;
}
.link {
  color: var(--mill);
  text-decoration: underline;
}
.bad {
  color: var(--U);
}
</style>
