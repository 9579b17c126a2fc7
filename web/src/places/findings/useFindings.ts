import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { storeToRefs } from 'pinia'
import { api, ask } from '../../api/client'
import { useAnswer } from '../../composables/useAnswer'
import { useWorkspace } from '../../stores/workspace'
import { parse } from './filter'
import { grouped, groupings, longGone, sortings, type By, type Sorting } from './groups'

/** The findings of the target that is looked at, and which of them the address shows in which order. */
export function useFindings() {
  const { target, version } = storeToRefs(useWorkspace())
  const url = useRoute()
  const router = useRouter()
  const { answer: page, error } = useAnswer(
    () => version.value,
    () => ask(api.GET('/api/findings', { params: { query: { target: target.value || undefined, limit: 10000 } } })),
    { keep: true },
  )
  const all = computed(() => page.value?.items ?? [])
  const points = computed(() => page.value?.points ?? [])
  const coverage = computed(() => page.value?.coverage)
  const loaded = computed(() => !!page.value)

  const word = (name: string) => String(url.query[name] ?? '')
  const open = computed(() => String(url.params.id ?? ''))
  /** Changes the address; what is not named stays. */
  function go(change: Record<string, string>, id = open.value) {
    const query = { ...url.query }
    for (const [k, v] of Object.entries(change)) query[k] = v || []
    void router.replace({ name: 'findings', params: { id: id || undefined }, query })
  }
  const q = computed({ get: () => word('q'), set: (v) => go({ q: v }) })
  const by = computed<By>({
    get: () => groupings.find((g) => g.by === word('by'))?.by ?? 'place',
    set: (v) => go({ by: v === 'place' ? '' : v }),
  })
  const sort = computed<Sorting>({
    get: () => sortings.find((g) => g.by === word('sort'))?.by ?? 'severity',
    set: (v) => go({ sort: v === 'severity' ? '' : v }),
  })
  const filter = computed(() => parse(q.value))
  const fits = computed(() => all.value.filter((f) => filter.value.test(f)))
  /** How many are not shown because they are gone for long, unless the filter asks for states. */
  const gone = computed(() => (filter.value.names('state') ? 0 : fits.value.filter(longGone).length))
  const groups = computed(() =>
    grouped(gone.value ? fits.value.filter((f) => !longGone(f)) : fits.value, by.value, sort.value),
  )
  return {
    all,
    points,
    coverage,
    error,
    loaded,
    open,
    go,
    q,
    by,
    sort,
    wrong: computed(() => filter.value.wrong),
    gone,
    groups,
  }
}
