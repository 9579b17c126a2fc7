<script setup lang="ts">
import { NButton, useMessage } from 'naive-ui'
import { computed, ref } from 'vue'
import { api, ask, message, type Message } from '../../api/client'
import WaiveDialog from '../../parts/WaiveDialog.vue'
import { usePending } from '../../stores/pending'
import { storeToRefs } from 'pinia'

const { messages } = storeToRefs(usePending())
const { edit } = usePending()

const props = defineProps<{ file: string }>()
const emit = defineEmits<{ go: [line: number] }>()
const toast = useMessage()

const weight = { critical: 0, high: 1, medium: 2, low: 3 } as const
const heavy = (m: Message) => (m.severity ? weight[m.severity] : 4)
const open = computed(() =>
  messages.value
    .filter((m) => !m.waived)
    .sort(
      (a, b) => Number(b.level === 'error') - Number(a.level === 'error') || heavy(a) - heavy(b) || a.line - b.line,
    ),
)
const waived = computed(() => messages.value.filter((m) => m.waived))
const shown = ref(100)
const detail = ref('')

async function fix(m: Message) {
  try {
    await edit(
      (t) => ask(api.POST('/api/declaration/fix', { body: { text: t, key: m.key } })),
      (r) => r.title,
    )
  } catch (e) {
    toast.error(message(e))
  }
}

const waiving = ref<Message | null>(null)
const asking = computed({ get: () => waiving.value !== null, set: (v) => !v && (waiving.value = null) })
async function waive(how: { reason: string; by: string; until: string }) {
  const m = waiving.value
  if (!m) return
  try {
    await edit(
      (t) => ask(api.POST('/api/declaration/waive', { body: { text: t, key: m.key, ...how } })),
      (r) => r.title,
    )
    waiving.value = null
  } catch (e) {
    toast.error(message(e))
  }
}
function go(m: Message) {
  detail.value = detail.value === m.key ? '' : m.key
  if (m.file === props.file) emit('go', m.line)
}
</script>

<template>
  <div>
    <p v-if="!open.length" class="fine">The review has nothing to say.</p>
    <div v-for="(m, i) in open.slice(0, shown)" :key="m.key + i" class="msg" :class="[m.level, m.severity]">
      <button class="bare head" :aria-expanded="detail === m.key" @click="go(m)">
        <span class="mono at">{{ m.file === file ? m.line : m.file }}</span>
        <span
          ><b>{{ m.level === 'error' ? 'error' : m.severity }}</b> {{ m.text }}</span
        >
      </button>
      <div v-if="detail === m.key" class="more">
        <p>{{ m.hint }}</p>
        <p v-if="m.why" class="faint">{{ m.why }}</p>
        <p class="faint mono">
          {{ m.code }}<template v-if="m.owasp"> · {{ m.owasp.split(' ')[0] }} · CWE-{{ m.cwe }}</template>
        </p>
      </div>
      <div v-if="m.fix || (detail === m.key && m.level !== 'error')" class="acts">
        <NButton v-if="m.fix" size="tiny" @click="fix(m)">{{ m.fix }}</NButton>
        <NButton v-if="detail === m.key && m.level !== 'error'" size="tiny" quaternary @click="waiving = m"
          >Waive until…</NButton
        >
      </div>
    </div>
    <button v-if="open.length > shown" class="bare link" @click="shown += 500">
      Show {{ open.length - shown }} more
    </button>
    <details v-if="waived.length" class="waived">
      <summary>{{ waived.length }} waived</summary>
      <p v-for="(m, i) in waived" :key="i">
        <span class="mono faint">{{ m.line }}</span> {{ m.text }}
        <span class="faint"
          >{{ m.waived!.reason }}{{ m.waived!.by ? ` (${m.waived!.by})` : '' }}, until {{ m.waived!.until }}</span
        >
      </p>
    </details>
    <WaiveDialog
      v-model:show="asking"
      title="Waive this message"
      :what="waiving?.text ?? ''"
      after="It is written into the file. After that day the message comes back, and the waiver with it."
      @waive="waive"
    />
  </div>
</template>

<style scoped>
.msg {
  padding: 5px 0;
  border-bottom: 1px solid var(--hair);
}
.head {
  display: grid;
  grid-template-columns: 40px minmax(0, 1fr);
  gap: 6px;
  width: 100%;
}
.at {
  color: var(--faint);
  text-align: right;
  padding-right: 4px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.msg b {
  color: var(--faint);
  font-weight: 600;
}
.msg.medium b {
  color: var(--W);
}
.msg.high b,
.msg.critical b,
.msg.error b {
  color: var(--U);
}
.more,
.acts {
  margin: 4px 0 2px 46px;
}
.more p {
  margin: 0 0 4px;
}
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 8px;
}
.link {
  color: var(--mill);
}
.waived {
  margin-top: 10px;
  color: var(--faint);
}
.waived p {
  margin: 4px 0;
}
.fine {
  color: var(--ok);
}
</style>
