import { computed, ref, type Ref } from 'vue'
import { storeToRefs } from 'pinia'
import type { Effect, PagesLook } from '../api/client'
import type { Head, Lens, ShownRow } from '../lenses'
import { withPages } from '../lenses/origins/pages'
import { usePending } from '../stores/pending'
import type { BoardRow } from '../stores/rows'
import { useWorkspace, type Shown } from '../stores/workspace'
import { isGap } from '../theme/kinds'
import { parse } from './filter'
import { useChanged } from './useChanged'

/** Rows as a pending text would have them: the crossings that it changes show what is expected then. */
export function withPending(b: Shown, changes: Effect['changes']): ShownRow[] {
  const column = new Map(b.columns.map((c, i) => [c.key, i]))
  const by = new Map<string, Effect['changes']>()
  for (const c of changes) by.set(c.route, [...(by.get(c.route) ?? []), c])
  return b.rows.map((r: BoardRow) => {
    const list = by.get(r.key)
    if (!list) return r
    const access = [...r.access]
    const pending = new Set<number>()
    for (const c of list) {
      const i = column.get(c.caller)
      if (i === undefined) continue
      access[i] = { ...access[i]!, expect: c.expect, status: c.status, some: c.some }
      pending.add(i)
    }
    return { ...r, access, pending }
  })
}

/** The rows and columns of a lens that a filter leaves; pages are those of a text that is not kept yet. */
export function useRows(lens: Ref<Lens>, q: Ref<string>, pages: Ref<PagesLook | null>) {
  const changed = useChanged(q)
  const { board: kept } = storeToRefs(useWorkspace())
  const board = computed(() => (kept.value && pages.value ? withPages(kept.value, pages.value) : kept.value))
  const { effect, pending } = storeToRefs(usePending())
  const unfolded = ref(new Set<number>())
  const all = computed<Head[]>(() => (board.value ? lens.value.heads(board.value, unfolded.value) : []))
  const filter = computed(() =>
    board.value ? parse(q.value, board.value, lens.value, all.value, changed.by.value) : null,
  )
  const shown = computed<ShownRow[]>(() => {
    const b = board.value
    const e = effect.value
    if (!b) return []
    return pending.value && e && !e.failed && e.changes.length ? withPending(b, e.changes) : b.rows
  })
  const loud = (r: ShownRow, h: Head) => isGap(lens.value.cell(r, h).found)
  const rows = computed(() => {
    const f = filter.value
    if (!f) return []
    return shown.value.filter((r) => f.row(r) && (!f.quiet || r.worst || all.value.some((h) => loud(r, h))))
  })
  const heads = computed(() => {
    const f = filter.value
    if (!f) return []
    const named = all.value.filter((h) => f.head(h))
    // A column that means nothing on any of the rows says nothing.
    const some = named.filter((h) => rows.value.some((r) => lens.value.cell(r, h).gate !== 'nothing'))
    const list = some.length ? some : named
    if (!f.quiet) return list
    const gaps = list.filter((h) => rows.value.some((r) => loud(r, h)))
    return gaps.length ? gaps : list
  })
  function unfold(h: Head) {
    const c = board.value?.columns[h.columns[0] ?? -1]
    if (c) unfolded.value = new Set([...unfolded.value, c.class])
  }
  return { rows, heads, filter, unfold, changed }
}
