<script setup lang="ts">
import { NButton, NCheckbox, NSelect } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { api, ask, type ReportForm } from '../api/client'
import { useAnswer } from '../composables/useAnswer'
import DialogCard from './DialogCard.vue'

// A report of a sweep: what it will look like, and a file of it.
const show = defineModel<boolean>('show', { required: true })
const props = defineProps<{ sweep: number }>()

const forms: { value: ReportForm; label: string }[] = [
  { value: 'html', label: 'HTML, a page to read and print' },
  { value: 'md', label: 'Markdown, text' },
  { value: 'csv', label: 'CSV, a table' },
  { value: 'sarif', label: 'SARIF 2.1.0, for code hosts' },
  { value: 'xml', label: 'JUnit, for pipelines' },
  { value: 'json', label: 'JSON, everything' },
  { value: 'har', label: 'HAR 1.2, the exchanges' },
]
const form = ref<ReportForm>('html')
const values = ref(false)
const owner = ref<string | null>(null)
const {
  answer: report,
  error,
  busy,
} = useAnswer(
  () => [show.value, props.sweep, form.value, values.value, owner.value],
  () => {
    if (!show.value) return undefined
    const query = { as: form.value, values: values.value || undefined, owner: owner.value ?? undefined }
    return ask(api.GET('/api/sweeps/{id}/report', { params: { path: { id: props.sweep }, query } }))
  },
)
const text = computed(() => report.value?.text ?? '')
const name = computed(() => report.value?.name ?? '')
const owners = ref<string[]>([])
watch(report, (r) => r && (owners.value = r.owners)) // a form that cannot be had leaves the choice
const most = 60000
function save() {
  const a = document.createElement('a')
  a.href = URL.createObjectURL(new Blob([text.value], { type: 'text/plain;charset=utf-8' }))
  a.download = name.value
  a.click()
  URL.revokeObjectURL(a.href)
}
</script>

<template>
  <DialogCard v-model:show="show" :title="`Report of sweep ${sweep}`" :width="920">
    <div class="tools">
      <NSelect v-model:value="form" size="small" class="form" aria-label="Form of the report" :options="forms" />
      <NSelect
        v-if="owners.length"
        v-model:value="owner"
        size="small"
        class="owner"
        clearable
        placeholder="all owners"
        aria-label="Owner"
        :options="owners.map((o) => ({ label: o, value: o }))"
      />
      <NCheckbox v-model:checked="values" title="They are somebody's data: without, only their types are shown"
        >values of answers</NCheckbox
      >
      <NButton class="save" size="small" type="primary" :disabled="!text" :loading="busy" @click="save"
        >Save {{ name }}</NButton
      >
    </div>
    <p v-if="error" class="bad">{{ error }}</p>
    <iframe v-else-if="form === 'html'" class="view" sandbox="" :srcdoc="text" title="What the report will look like">
    </iframe>
    <pre v-else class="view mono" tabindex="0">{{ text.slice(0, most) }}{{ text.length > most ? '\n…' : '' }}</pre>
  </DialogCard>
</template>

<style scoped>
.tools {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 14px;
  align-items: center;
  margin-bottom: 10px;
}
.form {
  width: 260px;
}
.owner {
  width: 160px;
}
.save {
  margin-left: auto;
}
.view {
  display: block;
  width: 100%;
  height: min(560px, 62vh);
  margin: 0;
  border: 1px solid var(--line);
  overflow: auto;
}
pre.view {
  padding: 8px 10px;
  background: var(--ground);
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
iframe.view {
  background: #ffffff;
}
.bad {
  color: var(--U);
}
</style>
