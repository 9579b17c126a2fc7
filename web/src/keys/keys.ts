import { useEventListener } from '@vueuse/core'
import { onBeforeUnmount, onMounted } from 'vue'

export interface Key {
  keys: string // "n", "Shift+N", "g b"
  says: string
  run: (e: KeyboardEvent) => void
}

const active: Key[][] = []

/** All keys that work now, the most recent place's first. */
export function allKeys(): Key[] {
  return [...active].reverse().flat()
}

export function typing(e: KeyboardEvent): boolean {
  const t = e.target as HTMLElement | null
  return !!t && (t.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(t.tagName) || !!t.closest('[role="dialog"]'))
}

let first = ''
let firstAt = 0

function onKey(e: KeyboardEvent) {
  if (e.defaultPrevented || e.ctrlKey || e.metaKey || e.altKey || typing(e)) return
  const now = Date.now()
  const chord = now - firstAt < 1200 ? `${first} ${e.key}` : ''
  const hit = allKeys().find((k) => k.keys === chord) ?? allKeys().find((k) => k.keys === e.key)
  first = e.key
  firstAt = now
  if (hit) {
    if (hit.keys.includes(' ') || hit.keys.length > 0) firstAt = hit.keys === chord ? 0 : now
    e.preventDefault()
    hit.run(e)
  }
}

useEventListener(window, 'keydown', onKey)

/** Makes keys work as long as the component is there. */
export function useKeys(keys: Key[]) {
  onMounted(() => active.push(keys))
  onBeforeUnmount(() => {
    const i = active.indexOf(keys)
    if (i >= 0) active.splice(i, 1)
  })
}
