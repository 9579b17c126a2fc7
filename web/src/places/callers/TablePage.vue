<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { computed, ref } from 'vue'
import { api, ask } from '../../api/client'
import { useAsk } from '../../composables/useAsk'
import { useFresh } from '../../composables/useFresh'

/** Test accounts from a table. Nothing of it is kept until it is written; then its secrets are sealed. */
const props = defineProps<{ text: string }>()
const emit = defineEmits<{ write: [title: string, text: string, caller: string]; leave: [] }>()

const table = ref('')
const { found, error, fresh } = useFresh([table, () => props.text], () =>
  table.value.trim() ? ask(api.POST('/api/callers/table', { body: { text: props.text, table: table.value } })) : null,
)
const list = computed(() => found.value ?? [])
const { busy, run } = useAsk()
const bad = computed(() => list.value.filter((a) => a.problem).length)

async function write() {
  await run(async () => {
    const r = await ask(api.POST('/api/callers/table/take', { body: { text: props.text, table: table.value } }))
    emit('write', r.title, r.text, list.value[0]?.name ?? '')
  })
}
</script>

<template>
  <form @submit.prevent="write">
    <h2>From a table</h2>
    <p class="faint">
      A first row names the columns, then comes a row for each account: <b>name</b>, <b>role</b>, <b>scopes</b>,
      <b>scheme</b> if there are several, and what its credential needs (user, password, key …). Other columns become
      attributes. A spreadsheet can be pasted as it is.
    </p>
    <NInput
      v-model:value="table"
      type="textarea"
      size="small"
      :autosize="{ minRows: 6, maxRows: 14 }"
      placeholder="name,role,user,password&#10;ann,reader,ann@example.com,…"
      :input-props="{ 'aria-label': 'Table of accounts', spellcheck: false }"
    />
    <p v-if="error" class="bad" role="alert">{{ error }}</p>
    <table v-else-if="list.length" class="plain" aria-label="What the table says">
      <tbody>
        <tr v-for="a in list" :key="a.line">
          <td class="faint">line {{ a.line }}</td>
          <td>
            <b>{{ a.name || '?' }}</b> {{ a.roles.join(', ') }}
            <span v-if="a.known" class="faint">is there, and changes</span>
          </td>
          <td v-if="a.problem" class="bad">{{ a.problem }}</td>
          <td v-else class="faint">
            {{ a.scheme }}: {{ a.members.join(', ')
            }}{{
              Object.entries(a.attributes)
                .map(([k, v]) => `; ${k}: ${v}`)
                .join('')
            }}
          </td>
        </tr>
      </tbody>
    </table>
    <div class="acts">
      <NButton type="primary" attr-type="submit" :loading="busy" :disabled="busy || !fresh || !!error || !!bad">
        {{ bad ? `Mend ${bad} of ${list.length} rows` : `Write ${list.length || ''} callers` }}
      </NButton>
      <NButton @click="emit('leave')">Leave it</NButton>
    </div>
  </form>
</template>

<style scoped>
h2 {
  color: var(--ink);
  font-size: 16px;
}
form :deep(.n-input__textarea-el) {
  font: 12.5px/18px var(--mono);
}
.bad {
  color: var(--U);
}
table {
  width: 100%;
  margin-top: 10px;
}
td:first-child {
  white-space: nowrap;
}
td {
  padding: 3px 8px 3px 0;
  vertical-align: top;
}
.acts {
  display: flex;
  gap: 8px;
  margin-top: 14px;
}
</style>
