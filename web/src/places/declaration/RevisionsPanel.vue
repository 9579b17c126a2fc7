<script setup lang="ts">
import { NButton, useMessage } from 'naive-ui'
import { ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, message, type Comparison, type Revision } from '../../api/client'
import ChangeList from '../../parts/ChangeList.vue'
import DiffText from '../../parts/DiffText.vue'
import { ago, exact, useNow } from '../../parts/time'
import { usePages } from '../../composables/usePages'
import { usePending } from '../../stores/pending'
import { storeToRefs } from 'pinia'

const { kept } = storeToRefs(usePending())
const { put } = usePending()

const url = useRoute()
const router = useRouter()
const toast = useMessage()
const now = useNow()
const {
  list,
  next,
  error: unread,
  reload,
  more,
} = usePages((after) => ask(api.GET('/api/revisions', { params: { query: { after, limit: 100 } } })))
const compared = ref<Comparison | null>(null)
const from = ref(0)
const to = ref(0)
const error = ref('')

watch(() => kept.value?.revision, reload, { immediate: true })

async function compare(a: number, b: number) {
  from.value = a
  to.value = b
  void router.replace({ query: { ...url.query, from: String(a), to: String(b) } })
  try {
    compared.value = await ask(api.GET('/api/revisions/compare', { params: { query: { from: a, to: b } } }))
  } catch (e) {
    compared.value = null
    error.value = message(e)
  }
}
if (url.query.from && url.query.to) void compare(Number(url.query.from), Number(url.query.to))

function before(r: Revision): Revision | undefined {
  return list.value[list.value.findIndex((x) => x.id === r.id) + 1]
}
async function restore(id: number) {
  try {
    const t = await ask(api.GET('/api/revisions/{id}', { params: { path: { id } } }))
    put(`Restore revision ${id}`, t.text)
    toast.success(`The text of revision ${id} is in the editor. See what it changes, then keep it.`)
  } catch (e) {
    toast.error(message(e))
  }
}
</script>

<template>
  <div>
    <p v-if="error" class="bad">{{ error }}</p>
    <div v-if="compared" class="cmp">
      <div class="top">
        <b>Revision {{ from }} → {{ to }}</b>
        <button class="bare link" @click="compared = null">close</button>
      </div>
      <ChangeList v-if="!compared.failed" :effect="compared" :most="60" />
      <p v-else class="faint">One of them has errors, so only the texts can be compared.</p>
      <h2>In the text</h2>
      <DiffText :from="compared.from" :to="compared.to" />
    </div>
    <ul>
      <li v-for="r in list" :key="r.id" :class="{ on: compared && (r.id === from || r.id === to) }">
        <div>
          <b>{{ r.id }}</b> {{ r.message }}
          <div class="faint" :title="exact(r.at)">
            {{ ago(r.at, now) }}{{ r.id === kept?.revision ? ', current' : '' }}
          </div>
        </div>
        <div class="acts">
          <NButton v-if="before(r)" size="tiny" quaternary @click="compare(before(r)!.id, r.id)"
            >What it changed</NButton
          >
          <NButton v-if="kept && r.id !== kept.revision" size="tiny" quaternary @click="compare(r.id, kept.revision)"
            >Since then</NButton
          >
          <NButton v-if="kept && r.id !== kept.revision" size="tiny" @click="restore(r.id)">Restore</NButton>
        </div>
      </li>
    </ul>
    <p v-if="unread" class="bad">{{ unread }}</p>
    <button v-if="next" class="bare link" @click="more">Older revisions</button>
  </div>
</template>

<style scoped>
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  padding: 6px 0;
  border-bottom: 1px solid var(--hair);
}
li.on {
  box-shadow: inset 3px 0 0 var(--mill);
  padding-left: 8px;
}
.acts {
  display: flex;
  gap: 4px;
  margin-top: 2px;
}
.cmp {
  margin-bottom: 14px;
  padding-bottom: 10px;
  border-bottom: 2px solid var(--line);
}
.top {
  display: flex;
  justify-content: space-between;
  margin-bottom: 4px;
}
.link {
  color: var(--mill);
}
.bad {
  color: var(--U);
}
h2 {
  margin-top: 8px;
}
</style>
