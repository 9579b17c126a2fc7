import { ref } from 'vue'
import type { Head, ShownRow } from '../lenses'
import type { Shown } from '../stores/workspace'

/** The crossings that are selected for an edit: callers by route. */
export function usePicked(board: () => Shown | null) {
  const picked = ref(new Map<string, Set<string>>())
  function pick(list: ShownRow[], of: Head[], how: 'toggle' | 'add') {
    const b = board()
    if (!b) return
    const keys = of.flatMap((h) => h.columns.map((i) => b.columns[i]!.key))
    const all = list.filter((r) => r.declared)
    const next = new Map(picked.value)
    const off = how === 'toggle' && all.every((r) => keys.every((k) => next.get(r.key)?.has(k)))
    for (const r of all) {
      const s = new Set(next.get(r.key))
      for (const k of keys)
        if (off) s.delete(k)
        else s.add(k)
      if (s.size) next.set(r.key, s)
      else next.delete(r.key)
    }
    picked.value = next
  }
  function clear() {
    picked.value = new Map()
  }
  return { picked, pick, clear }
}
