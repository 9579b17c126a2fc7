import { useEventListener, useLocalStorage } from '@vueuse/core'

interface Bounds {
  from: number // until somebody drags it; 0 where that is computed
  least: number
  most: number
  side: 'left' | 'right'
  shown?: () => number // how wide it is, where that is not what was chosen
}

/** The width of a part that is dragged by its edge; it is remembered under a name. */
export function useSplitter(name: string, o: Bounds) {
  const width = useLocalStorage(name, o.from)
  function drag(e: PointerEvent) {
    const from = e.clientX
    const was = o.shown?.() ?? width.value
    const end = useEventListener('pointermove', (m: PointerEvent) => {
      const by = o.side === 'left' ? m.clientX - from : from - m.clientX
      width.value = Math.max(o.least, Math.min(o.most, was + by))
    })
    useEventListener('pointerup', end, { once: true })
  }
  return { width, drag }
}
