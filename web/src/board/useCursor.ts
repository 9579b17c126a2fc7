import { computed, nextTick, ref, watch, type Ref } from 'vue'
import type { Head, Lens, ShownRow } from '../lenses'
import { isGap } from '../theme/kinds'

interface Grid {
  rows: () => ShownRow[]
  heads: () => Head[]
  lens: () => Lens
  scroller: Ref<HTMLElement | null>
  fixed: Ref<number>
  cell: Ref<number>
  show: (row: number) => void // scrolls to it
}

/** The cell in focus, and how it moves. */
export function useCursor(g: Grid) {
  const at = ref({ r: 0, c: 0 })
  const within = (n: number, many: number) => Math.max(0, Math.min(many - 1, n))
  const put = (r: number, c: number) => (at.value = { r: within(r, g.rows().length), c: within(c, g.heads().length) })
  watch(
    () => [g.rows().length, g.heads().length],
    () => put(at.value.r, at.value.c),
  )
  const current = computed(() => ({ row: g.rows()[at.value.r] ?? null, head: g.heads()[at.value.c] ?? null }))

  function move(r: number, c: number) {
    if (!g.rows().length) return
    put(r, c)
    g.show(at.value.r)
    void nextTick(sideways)
  }
  function sideways() {
    const s = g.scroller.value
    if (!s) return
    const x = g.fixed.value + at.value.c * g.cell.value
    if (x - s.scrollLeft < g.fixed.value) s.scrollLeft = x - g.fixed.value
    else if (x + g.cell.value - s.scrollLeft > s.clientWidth) s.scrollLeft = x + g.cell.value - s.clientWidth
  }
  /** The next cell with a gap, or the one before. */
  function gap(step: 1 | -1) {
    const [rows, heads] = [g.rows(), g.heads()]
    const total = rows.length * heads.length
    let k = at.value.r * heads.length + at.value.c
    // Coming from elsewhere, the cell one stands on counts too.
    if (document.activeElement !== g.scroller.value) k -= step
    for (let i = 0; i < total; i++) {
      k = (k + step + total) % total
      const [row, head] = [rows[Math.floor(k / heads.length)], heads[k % heads.length]]
      if (row && head && isGap(g.lens().cell(row, head).found)) {
        move(Math.floor(k / heads.length), k % heads.length)
        return
      }
    }
  }
  function find(route: string, caller: string) {
    const r = g.rows().findIndex((x) => x.key === route)
    const c = g.heads().findIndex((h) => h.key === caller || h.columns.length > 1)
    if (r < 0) return
    move(r, c >= 0 ? c : 0)
    // Once more when the sizes are known.
    setTimeout(() => g.show(at.value.r), 80)
  }
  /** Where a key leads, null for others. */
  function towards(e: KeyboardEvent): [number, number] | null {
    const { r, c } = at.value
    const page = Math.max(1, Math.floor((g.scroller.value?.clientHeight ?? 400) / 25) - 3)
    const last = { r: g.rows().length - 1, c: g.heads().length - 1 }
    const to: Record<string, [number, number]> = {
      ArrowUp: [r - 1, c],
      ArrowDown: [r + 1, c],
      ArrowLeft: [r, c - 1],
      ArrowRight: [r, c + 1],
      PageUp: [r - page, c],
      PageDown: [r + page, c],
      Home: e.ctrlKey ? [0, 0] : [r, 0],
      End: e.ctrlKey ? [last.r, last.c] : [r, last.c],
    }
    return to[e.key] ?? null
  }
  return { at, current, move, gap, find, towards }
}
