<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, type Finding } from '../../api/client'
import { usePages } from '../../composables/usePages'
import { useWorkspace } from '../../stores/workspace'
import { useSweep } from '../../stores/sweep'
import { storeToRefs } from 'pinia'

const { target, version } = storeToRefs(useWorkspace())
const { last } = storeToRefs(useSweep())

const url = useRoute()
const router = useRouter()
const open = computed(() => String(url.query.id ?? ''))

const total = ref(0)
const { list, next, error, reload, more } = usePages<Finding>(async (after) => {
  const page = await ask(
    api.GET('/api/findings', { params: { query: { target: target.value || undefined, after, limit: 200 } } }),
  )
  total.value = page.total
  return page
})
watch(version, reload, { immediate: true })
function toggle(f: Finding) {
  void router.replace({ query: open.value === f.id ? {} : { id: f.id } })
}
</script>

<template>
  <div class="place">
    <h1>Findings</h1>
    <p class="faint">
      {{ total }} against {{ target || 'no target' }}, by the current declaration. One finding gathers crossings with
      one cause.
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
                    query: {
                      lens: f.lens === 'access' ? undefined : f.lens,
                      route: f.at ?? f.route,
                      caller: f.column || undefined,
                    },
                  }"
                  >See the evidence on the board</RouterLink
                >
              </td>
            </tr>
          </template>
        </tbody>
      </table>
      <p v-if="next" class="further">
        <button class="bare link" @click="more">Show more of {{ total }}</button>
      </p>
    </div>
  </div>
</template>

<style scoped>
td:nth-child(3) {
  min-width: 200px;
}
td:nth-child(4) {
  overflow-wrap: anywhere;
}
.further {
  padding: 8px 12px;
  margin: 0;
}
.link {
  color: var(--mill);
}
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
