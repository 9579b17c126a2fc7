<script setup lang="ts">
import { Crosshair, FileText, Gauge, Grid3x3, KeyRound, Moon, Sun, TriangleAlert, Users, Waypoints } from '@lucide/vue'
import { NButton } from 'naive-ui'
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { RouterLink, RouterView, useRoute, useRouter } from 'vue-router'
import { useKeys } from './keys/keys'
import { ago, exact, useNow } from './parts/time'
import FirstSteps from './sweep/FirstSteps.vue'
import SweepStrip from './sweep/SweepStrip.vue'
import { theme, toggleTheme } from './theme/theme'
import { usePending } from './stores/pending'
import { useWorkspace } from './stores/workspace'
import { storeToRefs } from 'pinia'

const KeysHelp = defineAsyncComponent(() => import('./keys/KeysHelp.vue'))
const SaysTip = defineAsyncComponent(() => import('./parts/SaysTip.vue'))
const PendingStrip = defineAsyncComponent(() => import('./sweep/PendingStrip.vue'))

const { load } = usePending()
const { board, connected, version } = storeToRefs(useWorkspace())

const router = useRouter()
const here = useRoute()
const now = useNow()
const help = ref(false)

const places = [
  { to: '/board', name: 'Board', icon: Grid3x3, key: 'b' },
  { to: '/declaration', name: 'Declaration', icon: FileText, key: 'd' },
  { to: '/callers', name: 'Callers', icon: Users, key: 'c' },
  { to: '/tokens', name: 'Tokens', icon: KeyRound, key: 'k' },
  { to: '/quotas', name: 'Quotas', icon: Gauge, key: 'q' },
  { to: '/sweeps', name: 'Sweeps', icon: Waypoints, key: 's' },
  { to: '/findings', name: 'Findings', icon: TriangleAlert, key: 'f' },
  { to: '/targets', name: 'Targets', icon: Crosshair, key: 't' },
]

useKeys([
  ...places.map((p) => ({ keys: `g ${p.key}`, says: `go to ${p.name}`, run: () => void router.push(p.to) })),
  { keys: 'g o', says: 'go to What it does today', run: () => void router.push({ name: 'observe' }) },
  { keys: '?', says: 'this list', run: () => (help.value = true) },
])

// The kept text is read again whenever something was kept.
watch(version, () => void load().catch(() => undefined), { immediate: true })

/** Whether the address is in a place: what is opened there has its own behind it. */
const within = (to: string) =>
  here.path === to || here.path.startsWith(`${to}/`) || (to === '/board' && here.name === 'observe')
const review = computed(() => board.value?.review ?? 0)
</script>

<template>
  <div class="shell">
    <header class="top">
      <RouterLink to="/board" class="brand" aria-label="Mill Gate, the board">
        <svg viewBox="0 0 24 24" width="24" height="24" aria-hidden="true">
          <path d="M3 21V6M21 21V3M3 17L21 5M1 21h22" />
        </svg>
        Mill Gate
      </RouterLink>
      <div v-if="board && !board.empty" class="what">
        <b>{{ board.title || board.file }}</b>
        <span class="faint" :title="exact(board.keptAt)">
          revision {{ board.revision }}, kept {{ ago(board.keptAt, now) }}</span
        >
      </div>
      <div class="right">
        <span v-if="!connected" class="cut" role="status">connection lost, trying again</span>
        <RouterLink v-if="board && !board.empty" to="/declaration" class="review" :class="{ bad: board.errors }">
          review: {{ review === 0 ? 'no messages' : review === 1 ? '1 message' : `${review} messages` }}
        </RouterLink>
        <button class="bare icon" :aria-label="theme === 'light' ? 'Dark theme' : 'Light theme'" @click="toggleTheme">
          <Moon v-if="theme === 'light'" :size="17" /><Sun v-else :size="17" />
        </button>
        <NButton v-if="board && !board.empty" @click="router.push({ name: 'import' })">Add routes</NButton>
      </div>
    </header>
    <nav class="rail" aria-label="Places">
      <RouterLink
        v-for="p in places"
        :key="p.to"
        :to="p.to"
        :class="{ here: within(p.to) }"
        :aria-current="within(p.to) ? 'page' : undefined"
      >
        <component :is="p.icon" :size="18" :stroke-width="1.7" aria-hidden="true" />
        <span>{{ p.name }}</span>
      </RouterLink>
    </nav>
    <FirstSteps class="first" />
    <main class="main"><RouterView /></main>
    <div class="strip">
      <PendingStrip v-if="here.name !== 'declaration'" />
      <SweepStrip v-if="board && !board.empty" />
    </div>
    <KeysHelp v-model:show="help" />
    <SaysTip />
  </div>
</template>

<style scoped>
.shell {
  height: 100%;
  display: grid;
  grid-template: 48px auto minmax(0, 1fr) auto / 84px minmax(0, 1fr);
}
.top {
  grid-column: 1 / -1;
  display: flex;
  align-items: center;
  gap: 32px;
  padding: 0 16px;
  background: var(--sheet);
  border-bottom: 1px solid var(--line);
}
.brand {
  display: flex;
  align-items: center;
  gap: 8px;
  font-weight: 650;
  font-size: 15px;
  color: var(--ink);
  text-decoration: none;
}
.brand svg {
  fill: none;
  stroke: var(--mill);
  stroke-width: 2;
}
.what {
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.what b {
  font-weight: 650;
}
.right {
  margin-left: auto;
  display: flex;
  align-items: center;
  gap: 16px;
  white-space: nowrap;
}
.review {
  color: var(--faint);
  text-decoration: none;
}
.review:hover {
  color: var(--mill);
}
.review.bad,
.cut {
  color: var(--U);
}
.icon {
  display: grid;
  place-items: center;
  width: 28px;
  height: 28px;
  color: var(--faint);
  border-radius: 4px;
}
.icon:hover {
  color: var(--mill);
}
.rail {
  grid-row: 2 / 4;
  border-right: 1px solid var(--line);
  padding-top: 8px;
}
.rail a {
  display: grid;
  justify-items: center;
  gap: 4px;
  padding: 9px 0 8px;
  color: var(--faint);
  text-decoration: none;
  font-size: 12px;
  line-height: 16px;
  border-right: 3px solid transparent;
  margin-right: -1px;
}
.rail a:hover {
  color: var(--mill);
}
.rail a.here {
  color: var(--mill);
  font-weight: 650;
  background: var(--sheet);
  border-right-color: var(--mill);
}
.first {
  grid-row: 2;
  grid-column: 2;
}
.main {
  grid-row: 3;
  grid-column: 2;
  min-width: 0;
  min-height: 0;
  position: relative;
}
.strip {
  grid-column: 1 / -1;
}
</style>
