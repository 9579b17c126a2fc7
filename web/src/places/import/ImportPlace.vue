<script setup lang="ts">
import { NButton } from 'naive-ui'
import { watch } from 'vue'
import ImportBar from './ImportBar.vue'
import ImportProposals from './ImportProposals.vue'
import ImportQuestions from './ImportQuestions.vue'
import ImportSource from './ImportSource.vue'
import ImportTable from './ImportTable.vue'
import { provideImport } from './useImport'

defineProps<{ embedded?: boolean }>()
const emit = defineEmits<{ begun: [yes: boolean] }>()
const { bring, busy, error, files, preview, proposals, rows, taken, whole } = provideImport()
watch(
  () => files.value.length > 0,
  (b) => emit('begun', b),
)
</script>

<template>
  <div :class="{ place: !embedded }">
    <header>
      <h1>Bring in routes</h1>
      <p v-if="embedded" class="faint">
        Mill Gate needs to know which routes there are. Then you say who may call them, and it shows where the service
        does otherwise.
      </p>
      <p v-else class="faint">
        Nothing is kept before you say so: the routes become a pending edit of the declaration, and what it changes is
        shown first.
      </p>
    </header>

    <ImportSource v-if="!files.length" />
    <template v-else>
      <ImportBar />
      <p v-if="busy && !preview" class="faint" role="status">Reading it …</p>
      <div v-if="error" class="sheet wrong" role="alert">
        <p><b>It could not be read.</b> {{ error }}</p>
        <p class="faint">Choose what it is above, or take another file. Nothing was changed.</p>
      </div>
      <template v-if="preview">
        <ul v-if="preview.notes.length" class="notes faint">
          <li v-for="n in preview.notes" :key="n">{{ n }}</li>
        </ul>
        <ImportQuestions />
        <ImportTable />
        <ImportProposals />
        <div class="go">
          <NButton
            type="primary"
            :loading="busy"
            :disabled="!whole && !taken.length && !proposals.length"
            @click="bring"
            >{{
              whole
                ? `Bring in the file with ${rows.filter((r) => r.state !== 'gone').length} routes`
                : `Bring in ${taken.length} ${taken.length === 1 ? 'route' : 'routes'}`
            }}</NButton
          >
          <span class="faint">It becomes a pending edit.</span>
        </div>
      </template>
    </template>
  </div>
</template>

<style scoped>
header {
  margin-bottom: 16px;
}
p {
  margin: 0 0 8px;
}
.notes {
  margin: 0 0 10px;
  padding: 0;
  list-style: none;
}
.wrong {
  padding: 12px 16px;
  border-left: 4px solid var(--U);
  margin-bottom: 12px;
}
.go {
  display: flex;
  gap: 12px;
  align-items: center;
}
</style>
