<script setup lang="ts">
import { NButton, NInput, NInputNumber, NSelect } from 'naive-ui'
import { ref, watch } from 'vue'
import { api, ask } from '../../api/client'
import { useAsk } from '../../composables/useAsk'
import DialogCard from '../../parts/DialogCard.vue'

// A test token, made with a key that the user gives.
const minting = defineModel<boolean>('show', { required: true })
const props = defineProps<{ callers: { label: string; value: string }[]; who: string | null; target: string }>()
const emit = defineEmits<{ made: [token: string] }>()
const { busy, run } = useAsk()
const key = ref('')
const minutes = ref<number | null>(5)
const mintFor = ref<string | null>(null)
watch(minting, (on) => {
  if (on) mintFor.value = props.who
})
async function mint() {
  await run(async () => {
    const body = {
      identity: mintFor.value ?? '',
      scheme: '',
      target: props.target,
      key: key.value,
      minutes: minutes.value ?? 0,
    }
    const r = await ask(api.POST('/api/tokens/mint', { body }))
    minting.value = false
    key.value = ''
    emit('made', r.token)
  })
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
        placeholder="A private JWK, PEM, or a secret"
        :input-props="{ 'aria-label': 'Signing key', spellcheck: false, autocomplete: 'off' }"
      />
      <span>Lives</span>
      <NInputNumber v-model:value="minutes" :min="1" :max="525600" :input-props="{ 'aria-label': 'Minutes' }">
        <template #suffix>min</template>
      </NInputNumber>
    </div>
    <div class="acts end">
      <NButton type="primary" :loading="busy" :disabled="!mintFor || !key.trim()" @click="mint">Mint it</NButton>
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
.warn {
  border-left: 3px solid var(--W);
  padding-left: 10px;
}
</style>
