<script setup lang="ts">
import { NButton, NInput, NInputNumber, NSelect } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { api, ask, message, type Minted } from '../../api/client'
import DialogCard from '../../parts/DialogCard.vue'

// A test token, made with a key that the user gives, or with the declared one.
const minting = defineModel<boolean>('show', { required: true })
const props = defineProps<{ callers: { label: string; value: string }[]; who: string | null; target: string }>()
const emit = defineEmits<{ made: [minted: Minted, identity: string] }>()
const busy = ref(false)
const error = ref('')
const key = ref('')
const claims = ref('')
const minutes = ref<number | null>(null)
const mintFor = ref<string | null>(null)
watch(minting, (on) => {
  if (!on) return
  mintFor.value = props.who
  error.value = ''
})
const example = 'Set beside those of the identity, null takes one away: {"scope": "frames:read", "nbf": null}'
const months = computed(() => (minutes.value ?? 0) > 30 * 24 * 60)
async function mint() {
  busy.value = true
  error.value = ''
  try {
    const body = {
      identity: mintFor.value ?? '',
      scheme: '',
      target: props.target,
      key: key.value,
      minutes: minutes.value ?? 0,
      claims: claims.value,
    }
    const r = await ask(api.POST('/api/tokens/mint', { body }))
    minting.value = false
    key.value = ''
    emit('made', r, body.identity)
  } catch (e) {
    error.value = message(e)
  } finally {
    busy.value = false
  }
}
</script>

<template>
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
        placeholder="A private JWK, PEM, or a secret; left empty it is the signing_key of the declaration"
        :input-props="{ 'aria-label': 'Signing key', spellcheck: false, autocomplete: 'off' }"
      />
      <span>Lives</span>
      <NInputNumber
        v-model:value="minutes"
        :min="1"
        :max="525600"
        clearable
        placeholder="as declared"
        :input-props="{ 'aria-label': 'Minutes' }"
      >
        <template #suffix>min</template>
      </NInputNumber>
      <span>Claims</span>
      <NInput
        v-model:value="claims"
        type="textarea"
        :rows="3"
        class="mono"
        :placeholder="example"
        :input-props="{ 'aria-label': 'Claims', spellcheck: false }"
      />
    </div>
    <p v-if="months" class="warn">
      A test token that lives for months is a finding wherever it turns up. Whoever finds it can use it that long.
    </p>
    <p v-if="error" class="bad" role="alert">{{ error }}</p>
    <div class="acts end">
      <NButton type="primary" :loading="busy" :disabled="!mintFor" @click="mint">Mint it</NButton>
      <NButton @click="minting = false">Leave it</NButton>
    </div>
  </DialogCard>
</template>

<style scoped>
.acts {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px 12px;
  margin-top: 8px;
}
.form {
  display: grid;
  grid-template-columns: 60px minmax(0, 1fr);
  gap: 8px;
  align-items: center;
}
.bad {
  color: var(--U);
}
.warn {
  border-left: 3px solid var(--W);
  padding-left: 10px;
}
</style>
