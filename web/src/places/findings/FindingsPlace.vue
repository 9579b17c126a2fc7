<script setup lang="ts">
import { lenses } from '../../board/lens'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, message, type Finding } from '../../api/client'
import { last, target, version } from '../../state/workspace'

const url = useRoute()
const router = useRouter()
const list = ref<Finding[]>([])
const error = ref('')
const open = computed(() => String(url.query.id ?? ''))

watch(
  version,
  async () => {
    try {
      list.value = await ask(api.GET('/api/findings', { params: { query: { target: target.value || undefined } } }))
      error.value = ''
    } catch (e) {
      error.value = message(e)
    }
  },
  { immediate: true },
)
function toggle(f: Finding) {
  void router.replace({ query: open.value === f.id ? {} : { id: f.id } })
}

/** The lens whose columns have it. */
function lensOf(column?: string): string | undefined {
  return lenses.find((l) => l.prefix && column?.startsWith(l.prefix))?.id
}
</script>

<template>
  <div class="place">
    <h1>Findings</h1>
    <p class="faint">
      {{ list.length }} against {{ target || 'no target' }}, by the current declaration. One finding gathers crossings
      with one cause.
    </p>
    <p v-if="error" class="bad">{{ error }}</p>
    <p v-if="!list.length && !error">
      {{
        last
          ? 'The service does what the declaration says, as far as it was probed.'
          : 'Nothing was probed yet. Start a sweep from the strip below.'
      }}
    </p>
    <div v-else class="sheet">
      <table class="plain">
        <thead>
          <tr>
            <th></th>
            <th>Severity</th>
            <th>Finding</th>
            <th>Where</th>
            <th>Callers</th>
            <th>Confidence</th>
          </tr>
        </thead>
        <tbody>
          <template v-for="f in list" :key="f.id">
            <tr class="row" @click="toggle(f)">
              <td>
                <span class="kind" :class="`k-${f.kind}`" :title="f.name">{{ f.kind }}</span>
              </td>
              <td>{{ f.severity }}</td>
              <td>
                <button class="bare name" :aria-expanded="open === f.id" @click.stop="toggle(f)">{{ f.title }}</button>
              </td>
              <td class="mono">{{ f.where }}</td>
              <td>
                {{
                  f.callers.length > 2
                    ? `${f.callers.slice(0, 2).join(', ')} and ${f.callers.length - 2} more`
                    : f.callers.join(', ')
                }}
              </td>
              <td>{{ f.confidence }}</td>
            </tr>
            <tr v-if="open === f.id" class="more">
              <td></td>
              <td colspan="5">
                <p>{{ f.reason }}</p>
                <p><b>What to do:</b> {{ f.advice }}</p>
                <details v-if="f.routes && f.routes.length > 1" class="about faint">
                  <summary>{{ f.routes.length }} routes</summary>
                  <p class="mono">{{ f.routes.join(', ') }}</p>
                </details>
                <p class="faint">
                  Callers: {{ f.callers.join(', ')
                  }}<template v-if="f.inferred.length">; inferred: {{ f.inferred.join(', ') }}</template>
                </p>
                <details v-if="f.means" class="about">
                  <summary>About this cause</summary>
                  <p>{{ f.means }}</p>
                  <p><b>How it is shown:</b> {{ f.shown }}</p>
                  <p><b>What would refute it:</b> {{ f.refuted }}</p>
                </details>
                <p class="faint">
                  {{ f.name }} · {{ f.owasp }} · CWE-{{ f.cwe
                  }}<template v-if="f.standard"> · {{ f.standard }}</template> ·
                  {{ f.id }}
                </p>
                <RouterLink
                  :to="{
                    name: 'board',
                    query: { lens: lensOf(f.column), route: f.at ?? f.route, caller: f.column || undefined },
                  }"
                  >See the evidence on the board</RouterLink
                >
              </td>
            </tr>
          </template>
        </tbody>
      </table>
    </div>
  </div>
</template>

<style scoped>
.row {
  cursor: pointer;
}
.row:hover td {
  background: var(--mill-soft);
}
.name {
  font-weight: 600;
}
.about {
  margin: 0 0 6px;
  max-width: 760px;
}
.about summary {
  cursor: pointer;
  margin: 0 0 6px;
}
.more p {
  margin: 0 0 6px;
  max-width: 760px;
}
.bad {
  color: var(--U);
}
</style>
