import { ref, watch, type Ref } from 'vue'
import { storeToRefs } from 'pinia'
import { api, ask, type Crossing } from '../api/client'
import type { Head, Lens, ShownRow } from '../lenses'
import { useWorkspace } from '../stores/workspace'

/** What is expected of a crossing and what was seen, in one sentence. */
export function sentence(x: Crossing): string {
  const p = x.probes[0]
  const why = p?.ladder[p.decider - 1]?.text ?? x.reason
  const seen = p?.exchange
    ? p.exchange.status
      ? `${p.exchange.status} in ${Math.max(1, Math.round(p.exchange.ms))} ms`
      : 'no answer'
    : p?.steps?.length
      ? p.steps.map((s) => `${s.name} ${s.status || 'no answer'}`).join(', ')
      : 'nothing yet'
  const what = p && x.probes.length > 1 ? ` (${p.label})` : ''
  if (p?.page) {
    const got = p.page.got ? `can ${p.page.got === 'nothing' ? 'do nothing' : p.page.got}` : 'not asked yet'
    return `${x.label} at ${x.route}: declared is ${p.page.want}; ${got}`
  }
  if (p?.quota)
    return `quota ${p.quota.name} at ${x.route}: declared ${p.quota.declared}; ${p.quota.found || 'not measured yet'}`
  if (/^(counted|quota):/.test(x.caller))
    return `${x.label} at ${x.route}: ${x.left[0]?.why ?? 'not measured; the plan of a sweep says why'}`
  if (x.caller.startsWith('origin:')) return `${x.label} at ${x.route}: ${x.left[0]?.why ?? 'not asked'}`
  const who = x.caller.startsWith('credential:') ? `credential (${x.caller.slice(11)})` : x.caller || 'nobody'
  return `${who} at ${x.route}${what}: expected ${p?.expected ?? x.expected}${why ? `, ${why}` : ''}; observed: ${seen}`
}

/** One sentence for the cell under the pointer or in focus. */
export function useHint(lens: Ref<Lens>) {
  const { target, version } = storeToRefs(useWorkspace())
  const hint = ref('')
  const known = new Map<string, string>()
  watch(version, () => known.clear())
  let asked = 0
  async function focus(row: ShownRow | null, head: Head | null) {
    const turn = ++asked
    if (!row || !head) {
      hint.value = ''
      return
    }
    const key = `${row.key}\n${head.key}`
    const c = lens.value.cell(row, head)
    const plain = c.gate === 'nothing' ? 'means nothing here' : `expected ${c.expected}`
    hint.value = known.get(key) ?? `${head.label} at ${row.key}: ${plain}`
    if (known.has(key) || c.gate === 'nothing') return
    await new Promise((r) => setTimeout(r, 120))
    if (turn !== asked) return
    try {
      const query = { route: row.key, caller: head.key, target: target.value || undefined }
      const s = sentence(await ask(api.GET('/api/crossing', { params: { query } })))
      known.set(key, s)
      if (turn === asked) hint.value = s
    } catch {
      // The plain words above stay.
    }
  }
  return { hint, focus }
}
