<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import TokenAudit from './TokenAudit.vue'
import TokenBench from './TokenBench.vue'
import TokenSessions from './TokenSessions.vue'

const url = useRoute()
const router = useRouter()
const tabs = { bench: 'One token', audit: 'Many', sessions: 'Sessions' } as const
type Tab = keyof typeof tabs
const tab = computed<Tab>({
  get: () => (String(url.query.tab ?? '') in tabs ? (url.query.tab as Tab) : 'bench'),
  set: (v) => void router.replace({ query: v === 'bench' ? {} : { tab: v } }),
})
</script>

<template>
  <div class="place">
    <div class="top">
      <h1>Tokens</h1>
      <div class="tabs" role="tablist" aria-label="How many">
        <button
          v-for="(label, k) in tabs"
          :key="k"
          class="bare"
          role="tab"
          :aria-selected="tab === k"
          :class="{ on: tab === k }"
          @click="tab = k"
        >
          {{ label }}
        </button>
      </div>
    </div>
    <KeepAlive>
      <component :is="{ bench: TokenBench, audit: TokenAudit, sessions: TokenSessions }[tab]" />
    </KeepAlive>
  </div>
</template>

<style scoped>
.top {
  display: flex;
  gap: 24px;
  align-items: baseline;
  margin-bottom: 8px;
}
.top h1 {
  margin: 0;
}
.tabs {
  display: flex;
  gap: 16px;
}
.tabs button {
  color: var(--faint);
  padding: 4px 0;
  border-bottom: 2px solid transparent;
}
.tabs .on {
  color: var(--mill);
  font-weight: 600;
  border-color: var(--mill);
}
</style>
