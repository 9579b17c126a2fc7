<script setup lang="ts">
import { NButton } from 'naive-ui'
import { storeToRefs } from 'pinia'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, message, type CallerEdit, type Callers } from '../../api/client'
import { useAsk } from '../../composables/useAsk'
import { useKeys } from '../../keys/keys'
import { useNow } from '../../parts/time'
import { usePending } from '../../stores/pending'
import { useSteps } from '../../stores/steps'
import { useWorkspace } from '../../stores/workspace'
import CallerForm from './CallerForm.vue'
import CallerPage from './CallerPage.vue'
import ExamplePage from './ExamplePage.vue'
import RolesPicture from './RolesPicture.vue'
import SchemeList from './SchemeList.vue'
import TablePage from './TablePage.vue'
import { stateOf } from './states'
import { glossary } from '../../parts/glossary'
import { vSays } from '../../parts/says'

const { target: kept } = storeToRefs(useWorkspace())
const pending = usePending()
const steps = useSteps()
const { text, pending: changed } = storeToRefs(pending)
const url = useRoute()
const router = useRouter()
const now = useNow()
const { busy, run } = useAsk()

const callers = ref<Callers | null>(null)
const error = ref('')
/** How somebody is added beside the list: by hand, from requests, from a table; empty where nobody is. */
const adding = ref<'' | 'hand' | 'example' | 'table'>(url.query.example === undefined ? '' : 'example')
const asking = ref('') // whose credential is tried
/** The target that one is tried on: the chosen one, or the first of a text that is not kept yet. */
const target = computed(() => kept.value || (callers.value?.targets[0] ?? ''))
const body = computed(() => (changed.value ? text.value : ''))

async function look() {
  try {
    callers.value = await ask(api.POST('/api/callers/look', { body: { target: target.value, text: body.value } }))
    error.value = ''
    void steps.look()
  } catch (e) {
    error.value = message(e)
  }
}
watch([target, text], look, { immediate: true })

const chosen = computed(() => callers.value?.identities.find((i) => i.name === url.params.name))
/** Identities by the role that they have first. */
const groups = computed(() => {
  const by = new Map<string, Callers['identities']>()
  for (const r of callers.value?.roles ?? []) by.set(r.name, [])
  for (const i of callers.value?.identities ?? []) {
    const key = i.roles[0] ?? 'no role'
    by.set(key, [...(by.get(key) ?? []), i])
  }
  return [...by].filter(([, list]) => list.length)
})

async function edit(change: Omit<CallerEdit, 'text'>, then?: string) {
  await run(async () => {
    await pending.edit(
      (t) => ask(api.POST('/api/callers/edit', { body: { ...change, text: t } })),
      (r) => r.title,
    )
    adding.value = ''
    if (then !== undefined) void router.replace({ name: 'callers', params: { name: then } })
  })
}
function written(title: string, after: string, caller: string) {
  pending.put(title, after)
  adding.value = ''
  if (caller) void router.replace({ name: 'callers', params: { name: caller } })
}
async function tryAll() {
  await run(async () => {
    for (const i of callers.value?.identities ?? [])
      for (const c of i.credentials) {
        asking.value = i.name
        await ask(
          api.POST('/api/callers/try', {
            body: { target: target.value, text: body.value, identity: i.name, scheme: c.scheme },
          }),
        )
        await look()
      }
  })
  asking.value = ''
}
useKeys([
  { keys: 'a', says: 'add a caller', run: () => (adding.value = 'hand') },
  { keys: 'e', says: 'derive callers from requests', run: () => (adding.value = 'example') },
])
</script>

<template>
  <div class="callers">
    <div class="list">
      <header>
        <h1>Callers</h1>
        <div class="acts">
          <NButton type="primary" @click="adding = 'hand'">Add a caller</NButton>
          <NButton title="Derive callers from requests that work (e)" @click="adding = 'example'">By example</NButton>
          <NButton title="Add test accounts from a table" @click="adding = 'table'">From a table</NButton>
          <NButton
            :loading="!!asking"
            :disabled="busy || !target || !callers?.identities.length"
            title="Log in with each credential once, on the target below"
            @click="tryAll"
            >Try all</NButton
          >
          <span v-if="asking" role="status" class="faint">trying {{ asking }} …</span>
        </div>
        <RolesPicture v-if="callers?.roles.length" :roles="callers.roles" :on="chosen?.roles ?? []" @edit="edit" />
      </header>
      <p v-if="error" class="bad" role="alert">{{ error }}</p>
      <p v-if="callers && !callers.identities.length" class="empty">
        Nobody calls yet. A caller is a test account or a client: its role, and what it proves who it is with. With two
        of a role one sees whether each keeps to its own records. Add one by hand, or paste a request that works:
        <b>By example</b> reads the scheme, the login and the caller out of it.
      </p>
      <table v-else class="plain">
        <colgroup>
          <col />
          <col />
          <col />
          <col />
        </colgroup>
        <tbody v-for="[role, list] in groups" :key="role">
          <tr>
            <th v-says="glossary.role" colspan="4" scope="colgroup">{{ role }}</th>
          </tr>
          <tr v-for="i in list" :key="i.name" :class="{ on: i.name === chosen?.name }">
            <td>
              <RouterLink :to="{ name: 'callers', params: { name: i.name } }"
                ><b>{{ i.name }}</b></RouterLink
              >
            </td>
            <td class="faint">
              {{
                [
                  ...Object.entries(i.in).map(([kind, places]) => `${kind} ${places.join(' and ')}`),
                  ...i.scopes.map((s) => `scope ${s}`),
                  ...Object.entries(i.attributes).map(([k, v]) => `${k}: ${v}`),
                ].join(', ')
              }}
            </td>
            <td class="mono">{{ i.credentials.map((c) => c.scheme).join(' · ') }}</td>
            <td>
              <div
                v-for="c in i.credentials"
                :key="c.scheme"
                v-says="`${c.scheme}: ${stateOf(c, now).says}. ${glossary.credential}`"
                class="state"
              >
                <span class="dot" :class="stateOf(c, now).tone"></span>{{ stateOf(c, now).says }}
              </div>
              <span v-if="!i.credentials.length" class="faint">has no credential</span>
            </td>
          </tr>
        </tbody>
      </table>
      <SchemeList v-if="callers" :schemes="callers.schemes" @edit="edit" />
    </div>
    <aside v-if="callers && (adding || chosen)" class="page" aria-label="Caller">
      <ExamplePage v-if="adding === 'example'" :target="target" :text="body" @write="written" @leave="adding = ''" />
      <TablePage v-else-if="adding === 'table'" :text="body" @write="written" @leave="adding = ''" />
      <CallerForm
        v-else-if="adding === 'hand'"
        :callers="callers"
        :busy="busy"
        @put="(c) => edit(c, c.name)"
        @leave="adding = ''"
      />
      <CallerPage
        v-else-if="chosen"
        :key="chosen.name"
        :identity="chosen"
        :callers="callers"
        :target="target"
        :text="body"
        @edit="edit"
        @tried="look"
      />
    </aside>
  </div>
</template>

<style scoped>
.callers {
  height: 100%;
  display: flex;
  min-width: 0;
}
.list {
  flex: 1;
  min-width: 0;
  overflow: auto;
  background: var(--sheet);
}
header {
  padding: 12px 20px 14px;
  background: var(--ground);
  border-bottom: 1px solid var(--line);
}
.acts {
  display: flex;
  align-items: center;
  gap: 8px;
}
table {
  width: 100%;
  table-layout: fixed;
}
col:first-child,
col:nth-child(3) {
  width: 18%;
}
col:last-child {
  width: 28%;
}
th {
  text-align: left;
  font-weight: 400;
  color: var(--faint);
  padding: 8px 14px 2px;
}
td {
  padding: 5px 14px;
  vertical-align: top;
}
tbody + tbody th {
  border-top: 1px solid var(--line);
}
td a {
  color: var(--ink);
  text-decoration: none;
}
.on td {
  background: var(--mill-soft);
}
.state {
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.dot {
  display: inline-block;
  width: 8px;
  height: 8px;
  margin-right: 7px;
  border-radius: 50%;
  background: var(--line);
}
.dot.good {
  background: var(--ok);
}
.dot.bad {
  background: var(--P);
}
.page {
  width: 540px;
  flex: none;
  overflow: auto;
  padding: 16px 20px;
  border-left: 1px solid var(--line);
  background: var(--sheet);
}
.empty {
  padding: 12px 20px;
  max-width: 620px;
}
.bad {
  color: var(--U);
  padding: 0 20px;
}
</style>
