<script setup lang="ts">
import { NButton, NCheckbox, NInput, NSelect, useMessage } from 'naive-ui'
import { computed, ref } from 'vue'
import DialogCard from '../../parts/DialogCard.vue'
import TokenAxis from './TokenAxis.vue'
import TokenClaims from './TokenClaims.vue'
import TokenGlance from './TokenGlance.vue'
import TokenGuess from './TokenGuess.vue'
import TokenJudgements from './TokenJudgements.vue'
import TokenMint from './TokenMint.vue'
import TokenReach from './TokenReach.vue'
import { useBench } from './useBench'

const {
  text,
  refreshToken,
  view,
  busy,
  error,
  kept,
  history,
  callers,
  who,
  target,
  judge,
  read,
  askIssuer,
  take,
  paste,
  drop,
  clear,
  keep,
  forget,
  made,
  minted,
} = useBench()
const toast = useMessage()
async function copy(what: string, value: string) {
  await navigator.clipboard.writeText(value)
  toast.success(`Copied as ${what}. It is a credential: mind where you paste it.`)
}
const lit = ref('') // the part and pointer that a judgement is about
const minting = ref(false)
const naming = ref(false)
const name = ref('')
async function keepIt() {
  naming.value = false
  await keep(name.value)
}
const symmetric = computed(() => view.value?.header.some((p) => p.name === 'alg' && p.value.startsWith('HS')))
const verdictText = computed(() => {
  const v = view.value
  if (!v) return ''
  if (v.kind === 'encrypted') return 'An encrypted token'
  if (v.kind === 'opaque' && !v.claims.length) return 'An opaque token'
  if (v.kind === 'empty') return 'No token'
  if (v.kind === 'unread') return 'Too long to be a token'
  return {
    takes: 'A service that checks everything takes it',
    refuses: 'A service that checks everything refuses it',
    'cannot tell': 'Whether a service takes it cannot be told',
  }[v.outcome]
})
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
        <NButton quaternary @click="minting = true">Mint a test token…</NButton>
      </div>
      <p v-if="kept.length" class="kept">
        Kept:
        <span v-for="k in kept" :key="k">
          <button class="bare link" @click="judge(`kept as ${k}`, { kept: k })">{{ k }}</button>
          <button class="bare faint" :aria-label="`Forget ${k}`" @click="forget(k)">forget</button>
        </span>
      </p>
    </div>

    <div v-if="minted" class="sheet pad minted" aria-label="The minted token">
      <b>Minted for {{ minted.of }}</b>
      <NButton size="small" @click="copy('header', minted.header)">Copy as header</NButton>
      <NButton v-if="minted.curl" size="small" @click="copy('curl', minted.curl)">Copy as curl</NButton>
      <NButton size="small" @click="copy('token', minted.token)">Copy the token</NButton>
      <span v-if="minted.warns" class="warns">{{ minted.warns }}</span>
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
        <p v-for="s in view.settles" :key="s" class="settle">To settle it: {{ s }}</p>
        <TokenGlance v-if="view.facts.length" :facts="view.facts" />
        <TokenAxis v-if="view.kind === 'signed'" :axis="view.axis" />
      </div>
      <div class="cols">
        <div class="left">
          <section class="sheet pad">
            <TokenJudgements v-model:lit="lit" :view="view" />
            <TokenGuess v-if="symmetric" :token="text" />
          </section>
          <div v-if="view.scheme && view.reach.length" class="sheet pad">
            <TokenReach :reach="view.reach" :identity="view.identity" />
          </div>
        </div>
        <TokenClaims :view="view" :lit="lit" />
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
      <NInput v-model:value="name" :input-props="{ 'aria-label': 'Name' }" placeholder="Name" @keydown.enter="keepIt" />
      <div class="acts end">
        <NButton type="primary" :disabled="!name.trim()" @click="keepIt">Keep it</NButton>
        <NButton @click="naming = false">Leave it</NButton>
      </div>
    </DialogCard>
    <TokenMint v-model:show="minting" :callers="callers" :who="who" :target="target" @made="made" />
  </div>
</template>

<style scoped>
.minted {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px 12px;
}
.warns {
  border-left: 3px solid var(--W);
  padding-left: 10px;
}
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
.settle {
  margin: 0 0 8px;
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
.bad {
  color: var(--U);
}
.past button {
  margin-left: 10px;
}
.empty {
  padding: 8px 4px;
}
.bad {
  margin: 0;
}
</style>
