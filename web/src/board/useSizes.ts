import { useElementSize, useScroll } from '@vueuse/core'
import { computed, type ComputedRef, type Ref } from 'vue'
import { useSplitter } from '../composables/useSplitter'
import type { Head, ShownRow } from '../lenses'

const beside = 12 + 58 + 90 // what stands beside a path in its column

/** How wide the columns of the grid are, and which of them are drawn. */
export function useSizes(scroller: Ref<HTMLElement | null>, heads: () => Head[]) {
  const { width } = useElementSize(scroller, { width: 800, height: 400 })
  const { x: left } = useScroll(scroller)
  const { width: chosen, drag } = useSplitter('millgate.route', {
    from: 0,
    least: 120,
    most: 640,
    side: 'left',
    shown: () => routeWidth.value,
  })
  // Until somebody widens it, the column for paths gives way to the callers.
  const routeWidth: ComputedRef<number> = computed(
    () => chosen.value || Math.max(150, Math.min(300, Math.round(width.value * 0.24 - 26))),
  )
  const fixed = computed(() => beside + routeWidth.value)
  // As wide as its name needs where there is room, and never wider than that.
  const named = computed(() => Math.max(0, ...heads().map((h) => Math.max(h.label.length, 0.85 * h.sub.length))))
  const wished = computed(() => Math.max(72, Math.min(150, 7.2 * named.value + 8)))
  const cell = computed(() =>
    Math.max(30, Math.min(wished.value, Math.floor((width.value - fixed.value - 8) / Math.max(1, heads().length)))),
  )
  // Names get smaller down to 10 px, and are turned where most of what tells them apart would be cut.
  const longest = computed(() => Math.min(13, Math.max(1, ...heads().map((h) => h.label.length))))
  const narrow = computed(() => cell.value < Math.max(46, 5.3 * longest.value))
  const nameSize = computed(() => Math.max(10, Math.min(13, (cell.value - 2) / (0.54 * longest.value))))
  // Turned heads are as high as the longest name needs, within reason.
  const headHeight = computed(() =>
    narrow.value ? Math.min(138, Math.max(92, 18 + 6.6 * Math.max(0, ...heads().map((h) => h.label.length)))) : 45,
  )
  // With many callers only the columns in view are drawn, in steps of eight.
  const drawn = computed(() => {
    const first = Math.floor(left.value / cell.value)
    const many = Math.ceil((width.value - fixed.value) / cell.value)
    return {
      from: Math.max(0, Math.floor(first / 8) * 8),
      to: Math.min(heads().length, Math.ceil((first + many + 1) / 8) * 8),
    }
  })
  // A path loses its middle, never its end.
  const chars = computed(() => Math.max(8, Math.floor((routeWidth.value - 8) / 7.6)))
  function shorten(row: ShownRow): string {
    let p = (row.host ? `${row.host}:` : '') + row.path
    if (p.startsWith(row.prefix)) p = p.slice(row.prefix.length) || '/'
    if (p.length <= chars.value) return p
    const tail = Math.ceil((chars.value - 1) * 0.62)
    return `${p.slice(0, chars.value - 1 - tail)}…${p.slice(-tail)}`
  }
  return { routeWidth, fixed, cell, narrow, nameSize, headHeight, drawn, shorten, drag }
}
