<script setup lang="ts">
import { NButton, NCheckbox, NInput, NInputNumber, NSelect, useMessage } from 'naive-ui'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, message, type TokenView } from '../../api/client'
import DialogCard from '../../parts/DialogCard.vue'
import { board, target } from '../../state/workspace'
import TokenAxis from './TokenAxis.vue'
import TokenReach from './TokenReach.vue'

const url = useRoute()
const router = useRouter()
const toast = useMessage()

const text = ref('')
const refreshToken = ref(false)
const view = ref<TokenView | null>(null)
const busy = ref(false)
const error = ref('')
const kept = ref<string[]>([])
const lit = ref('') // the part and pointer that a judgement is about
interface Seen {
  what: string
  view: TokenView
}
const history = ref<Seen[]>([]) // masked, and gone with the page

const callers = computed(() =>
  (board.value?.columns ?? []).filter((c) => c.key).map((c) => ({ label: c.label, value: c.key })),
)
const who = ref<string | null>(null)

async function judge(
  what: string,
  how: Partial<{ text: string; obtain: boolean; identity: string; kept: string; ask: boolean }>,
) {
  busy.value = true
  error.value = ''
  try {
    const v = await ask(
      api.POST('/api/tokens/judge', {
        body: {
          text: '',
          target: target.value,
          identity: '',
          scheme: '',
          obtain: false,
          kept: '',
          refresh: refreshToken.value,
          ...how,
        },
      }),
    )
    view.value = v
    history.value = [{ what, view: v }, ...history.value.filter((h) => h.view.fingerprint !== v.fingerprint)].slice(
      0,
      8,
    )
  } catch (e) {
    error.value = message(e)
    view.value = null
  } finally {
    busy.value = false
  }
}
const read = () => judge('pasted', { text: text.value })
const askIssuer = () => judge('pasted', { text: text.value, ask: true })
function take(name: string) {
  who.value = name
  return judge(`obtained for ${name}`, { obtain: true, identity: name })
}
async function paste(e: ClipboardEvent) {
  const t = e.clipboardData?.getData('text') ?? ''
  if (t.trim().length > 20 && !text.value) {
    e.preventDefault()
    text.value = t
    await read()
  }
}
async function drop(e: DragEvent) {
  const f = e.dataTransfer?.files[0]
  const t = f ? await f.slice(0, 1 << 17).text() : (e.dataTransfer?.getData('text') ?? '')
  if (t) {
    text.value = t
    await read()
  }
}
function clear() {
  text.value = ''
  view.value = null
  error.value = ''
}

async function readKept() {
  try {
    kept.value = await ask(api.GET('/api/tokens/kept'))
  } catch (e) {
    error.value = message(e)
  }
}
const naming = ref(false)
const name = ref('')
async function keep() {
  try {
    await ask(api.PUT('/api/tokens/kept', { body: { name: name.value, text: text.value } }))
    toast.success(`Sealed as ${name.value}, until you forget it.`)
    naming.value = false
    await readKept()
  } catch (e) {
    toast.error(message(e))
  }
}
async function forget(n: string) {
  try {
    await ask(api.DELETE('/api/tokens/kept', { params: { query: { name: n } } }))
    await readKept()
  } catch (e) {
    toast.error(message(e))
  }
}

const minting = ref(false)
const key = ref('')
const minutes = ref<number | null>(5)
const mintFor = ref<string | null>(null)
async function mint() {
  try {
    const r = await ask(
      api.POST('/api/tokens/mint', {
        body: {
          identity: mintFor.value ?? '',
          scheme: '',
          target: target.value,
          key: key.value,
          minutes: minutes.value ?? 0,
        },
      }),
    )
    text.value = r.token
    minting.value = false
    key.value = ''
    await read()
  } catch (e) {
    toast.error(message(e), { duration: 8000 })
  }
}

const guessing = ref<AbortController | null>(null)
const guessed = ref('')
async function guess(e: globalThis.Event) {
  const f = (e.target as HTMLInputElement).files?.[0]
  if (!f) return
  guessed.value = ''
  guessing.value = new AbortController()
  try {
    const r = await ask(
      api.POST('/api/tokens/guess', {
        body: { text: text.value, words: await f.text() },
        signal: guessing.value.signal,
      }),
    )
    guessed.value = r.found
      ? `Its secret is “${r.word}”. Whoever knows it makes any token.`
      : `None of ${r.tried} words.`
  } catch (e) {
    guessed.value = guessing.value?.signal.aborted ? 'Stopped.' : message(e)
  } finally {
    guessing.value = null
  }
}
const symmetric = computed(() => view.value?.header.some((p) => p.name === 'alg' && p.value.startsWith('HS')))

onMounted(() => {
  void readKept()
  const from = String(url.query.identity ?? '')
  if (from) void take(from)
})
watch(
  () => url.query.identity,
  (n) => n && n !== who.value && void take(String(n)),
)
watch(who, (n) => n && n !== url.query.identity && void router.replace({ query: { ...url.query, identity: n } }))

const verdictText = computed(() => {
  const v = view.value
  if (!v) return ''
  if (v.kind === 'encrypted') return 'An encrypted token'
  if (v.kind === 'opaque' && !v.claims.length) return 'An opaque token'
  if (v.kind === 'empty') return 'No token'
  return {
    takes: 'A service that checks everything takes it',
    refuses: 'A service that checks everything refuses it',
    'cannot tell': 'Whether a service takes it cannot be told: it was not verified',
  }[v.outcome]
})
const about = (part: string, pointer?: string) => `${part}${pointer ?? ''}`
function isLit(part: string, name: string) {
  return lit.value === `${part}/${name}`
}
function date(s: string) {
  return new Date(s).toLocaleString()
}
</script>

<template>
  <div class="bench">
    <div class="ask sheet" @dragover.prevent @drop.prevent="drop">
      <NInput
        v-model:value="text"
        type="textarea"
        class="mono"
        :rows="3"
        placeholder="Paste a token, or drop a file with one. It stays on this machine and is forgotten with the page."
        :input-props="{ 'aria-label': 'Token', spellcheck: false, autocomplete: 'off' }"
        @paste="paste"
        @keydown.ctrl.enter="read"
      />
      <div class="acts">
        <NButton type="primary" :disabled="!text.trim()" :loading="busy" @click="read">Judge it</NButton>
        <NButton
          v-if="view?.canAsk && text.trim()"
          :loading="busy"
          title="Sends it to the issuer that the declaration names (RFC 7662), and nowhere else"
          @click="askIssuer"
          >Ask its issuer</NButton
        >
        <NCheckbox v-model:checked="refreshToken">it is a refresh token</NCheckbox>
        <NButton v-if="text || view" quaternary @click="clear">Clear</NButton>
        <NButton
          v-if="text.trim() && view"
          quaternary
          @click="((name = view.subject || view.fingerprint), (naming = true))"
          >Keep it…</NButton
        >
        <span class="gap"></span>
        <label class="take">
          or log in as
          <NSelect
            :value="who"
            class="who"
            size="small"
            :options="callers"
            placeholder="an identity"
            aria-label="Take the token of an identity"
            @update:value="take"
          />
        </label>
        <NButton quaternary @click="((mintFor = who), (minting = true))">Mint a test token…</NButton>
      </div>
      <p v-if="kept.length" class="kept">
        Kept:
        <span v-for="k in kept" :key="k">
          <button class="bare link" @click="judge(`kept as ${k}`, { kept: k })">{{ k }}</button>
          <button class="bare faint" :aria-label="`Forget ${k}`" @click="forget(k)">forget</button>
        </span>
      </p>
    </div>

    <p v-if="error" class="bad" role="alert">{{ error }}</p>

    <template v-if="view">
      <div class="said sheet">
        <p class="head">
          <b :class="view.outcome === 'refuses' && view.kind === 'signed' ? 'bad' : ''">{{ verdictText }}</b>
          <span class="faint">
            <template v-if="view.scheme">
              {{ view.scheme
              }}{{ view.identity ? ` of ${view.identity}` : view.subject ? ` of ${view.subject}` : '' }} ·
            </template>
            <template v-if="view.keySource">keys: {{ view.keySource }} · </template>{{ view.masked }} ·
            {{ view.fingerprint }}
          </span>
        </p>
        <TokenAxis v-if="view.kind === 'signed'" :axis="view.axis" />
      </div>
      <div class="cols">
        <div class="left">
          <section class="sheet pad">
            <h2>
              {{
                view.judgements.length
                  ? `${view.judgements.length} judgement${view.judgements.length === 1 ? '' : 's'}`
                  : 'Nothing is wrong with it'
              }}
            </h2>
            <div
              v-for="j in view.judgements"
              :key="j.id + (j.pointer ?? '')"
              class="j"
              tabindex="0"
              @mouseenter="lit = about(j.part, j.pointer)"
              @mouseleave="lit = ''"
              @focus="lit = about(j.part, j.pointer)"
              @blur="lit = ''"
            >
              <b class="sev" :class="j.severity">{{ j.severity }}</b>
              <div>
                {{ j.text }}
                <div class="faint">{{ j.why }}</div>
                <div class="faint mono small">{{ j.id }} · {{ j.standard }} · {{ j.part }}{{ j.pointer ?? '' }}</div>
              </div>
            </div>
            <p v-if="symmetric" class="words">
              <label class="link">
                Guess its secret with your word list…
                <input type="file" class="hide" aria-label="Word list" :disabled="!text.trim()" @change="guess" />
              </label>
              <NButton v-if="guessing" size="tiny" @click="guessing.abort()">Stop</NButton>
              <span role="status">{{ guessing ? ' trying…' : guessed }}</span>
            </p>
          </section>
          <div v-if="view.scheme && view.reach.length" class="sheet pad">
            <TokenReach :reach="view.reach" :identity="view.identity" />
          </div>
        </div>
        <section class="sheet pad">
          <h2>What it says</h2>
          <template v-for="part in ['header', 'claims'] as const" :key="part">
            <h3 v-if="view[part].length">{{ part === 'header' ? 'Header' : 'Claims' }}</h3>
            <dl v-if="view[part].length">
              <div v-for="(p, i) in view[part]" :key="p.name + i" class="row" :class="{ lit: isLit(part, p.name) }">
                <dt class="mono">{{ p.name }}</dt>
                <dd>
                  <span class="mono val">{{ p.value }}</span>
                  <span v-if="p.date" class="faint"> {{ date(p.date) }}</span>
                  <span v-if="p.means" class="faint means">{{ p.means }}</span>
                </dd>
              </div>
            </dl>
          </template>
          <p v-if="view.kind !== 'signed'" class="faint">There is nothing in it that can be read.</p>
        </section>
      </div>
    </template>
    <div v-else-if="!error && !busy" class="faint empty">
      <p>
        A token is read leniently, verified with the scheme's keys, and held against the declaration and the standards.
      </p>
      <p>You see what it says, what is wrong with it, how long it lives, and which routes it opens.</p>
    </div>
    <section v-if="history.length > 1" class="faint past" aria-label="Judged before">
      Judged before:
      <button v-for="h in history" :key="h.view.fingerprint" class="bare link" @click="view = h.view">
        {{ h.view.subject || h.view.fingerprint }}
        <span class="faint">({{ h.what }}, {{ h.view.judgements.length }})</span>
      </button>
    </section>

    <DialogCard v-model:show="naming" title="Keep this token">
      <p>It is sealed in Mill Gate's store on this machine, until you forget it.</p>
      <NInput v-model:value="name" :input-props="{ 'aria-label': 'Name' }" placeholder="Name" @keydown.enter="keep" />
      <div class="acts end">
        <NButton type="primary" :disabled="!name.trim()" @click="keep">Keep it</NButton>
        <NButton @click="naming = false">Leave it</NButton>
      </div>
    </DialogCard>
    <DialogCard v-model:show="minting" title="Mint a test token">
      <p class="warn">
        Whoever has this key can make any token. A service that takes the result trusts the key: use one of a test
        environment only. The key is not stored.
      </p>
      <div class="form">
        <span>For</span>
        <NSelect v-model:value="mintFor" :options="callers" aria-label="Identity" placeholder="an identity" />
        <span>Key</span>
        <NInput
          v-model:value="key"
          type="textarea"
          :rows="4"
          class="mono"
          placeholder="A private JWK, PEM, or a secret"
          :input-props="{ 'aria-label': 'Signing key', spellcheck: false, autocomplete: 'off' }"
        />
        <span>Lives</span>
        <NInputNumber v-model:value="minutes" :min="1" :max="525600" :input-props="{ 'aria-label': 'Minutes' }">
          <template #suffix>min</template>
        </NInputNumber>
      </div>
      <div class="acts end">
        <NButton type="primary" :disabled="!mintFor || !key.trim()" @click="mint">Mint it</NButton>
        <NButton @click="minting = false">Leave it</NButton>
      </div>
    </DialogCard>
  </div>
</template>

<style scoped>
.bench {
  display: grid;
  gap: 12px;
}
.ask,
.said,
.pad {
  padding: 12px 16px;
}
.acts {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px 12px;
  margin-top: 8px;
}
.gap {
  flex: 1;
}
.take {
  display: flex;
  align-items: center;
  gap: 8px;
}
.who {
  width: 150px;
}
.kept {
  margin: 8px 0 0;
}
.kept span {
  margin-right: 12px;
}
.kept .faint {
  font-size: 12px;
  margin-left: 4px;
}
.link {
  color: var(--mill);
  cursor: pointer;
}
.head {
  margin: 0 0 8px;
  display: flex;
  flex-wrap: wrap;
  gap: 2px 12px;
  align-items: baseline;
}
.head b {
  font-size: 15px;
}
.cols {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 12px;
  align-items: start;
}
.left {
  display: grid;
  gap: 12px;
}
h2 {
  margin: 0 0 6px;
}
h3 {
  margin: 8px 0 2px;
  font-size: 13px;
  color: var(--faint);
}
dl {
  margin: 0;
}
.row {
  display: grid;
  grid-template-columns: 112px minmax(0, 1fr);
  gap: 8px;
  padding: 3px 6px;
  margin: 0 -6px;
  border-radius: 3px;
}
.row.lit {
  background: var(--mill-soft);
  outline: 1px solid var(--mill);
}
dd {
  margin: 0;
}
.val {
  overflow-wrap: anywhere;
}
.means {
  display: block;
  font-size: 12px;
}
.j {
  display: grid;
  grid-template-columns: 64px minmax(0, 1fr);
  gap: 8px;
  padding: 6px;
  margin: 0 -6px;
  border-radius: 3px;
  border-bottom: 1px solid var(--hair);
}
.j:hover,
.j:focus-visible {
  background: var(--mill-soft);
}
.sev {
  font-weight: 600;
}
.critical,
.high,
.bad {
  color: var(--U);
}
.medium {
  color: var(--W);
}
.low {
  color: var(--faint);
}
.small {
  font-size: 12px;
}
.words {
  margin: 8px 0 0;
}
.words label {
  position: relative;
}
.hide {
  position: absolute;
  opacity: 0;
  width: 1px;
}
.past button {
  margin-left: 10px;
}
.empty {
  padding: 8px 4px;
}
.form {
  display: grid;
  grid-template-columns: 60px minmax(0, 1fr);
  gap: 8px;
  align-items: center;
}
.warn {
  border-left: 3px solid var(--W);
  padding-left: 10px;
}
.bad {
  margin: 0;
}
</style>
