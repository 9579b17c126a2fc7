import { onBeforeUnmount, ref } from 'vue'

const now = ref(Date.now())
let users = 0
let timer = 0

/** The time of day, moving on every few seconds while somebody looks. */
export function useNow() {
  if (users++ === 0) timer = window.setInterval(() => (now.value = Date.now()), 5000)
  onBeforeUnmount(() => {
    if (--users === 0) clearInterval(timer)
  })
  return now
}

export function ago(at: string | undefined, from: number): string {
  if (!at) return ''
  const s = Math.max(0, (from - new Date(at).getTime()) / 1000)
  if (s < 10) return 'just now'
  if (s < 60) return `${Math.round(s)} s ago`
  if (s < 3600) return `${Math.round(s / 60)} min ago`
  if (s < 86400) return `${Math.round(s / 3600)} h ago`
  return `${Math.round(s / 86400)} d ago`
}

export function exact(at: string | undefined): string {
  return at ? new Date(at).toLocaleString() : ''
}

/** A length of time as people say it. */
export function span(seconds: number): string {
  if (seconds < 1) return 'under 1 s'
  if (seconds < 90) return `${Math.round(seconds)} s`
  if (seconds < 5400) return `${Math.round(seconds / 60)} min`
  if (seconds < 172800) return `${+(seconds / 3600).toFixed(1)} h`
  return `${Math.round(seconds / 86400)} days`
}
