import { useEventListener, useLocalStorage } from '@vueuse/core'

/** The width of a part that is dragged by its edge; it is remembered under a name. */
export function useSplitter(name: string, o: { from: number; least: number; most: number; side: 'left' | 'right' }) {
  const width = useLocalStorage(name, o.from)
  function drag(e: PointerEvent) {
    const from = e.clientX
    const was = width.value
    const end = useEventListener('pointermove', (m: PointerEvent) => {
      const by = o.side === 'left' ? m.clientX - from : from - m.clientX
      width.value = Math.max(o.least, Math.min(o.most, was + by))
    })
    useEventListener('pointerup', end, { once: true })
  }
  return { width, drag }
}
