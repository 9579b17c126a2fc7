import { useTimestamp } from '@vueuse/core'

/** The time of day, moving on every few seconds while somebody looks. */
export function useNow() {
  return useTimestamp({ interval: 5000 })
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

/** An instant of something that lasts so long, as an axis shows it: no two of them alike by rounding. */
export function clock(seconds: number, longest: number): string {
  const two = (n: number) => String(n).padStart(2, '0')
  if (seconds === 0) return '0'
  if (longest < 1) return `${+(seconds * 1000).toPrecision(3)} ms`
  if (longest < 90) return `${+seconds.toFixed(2)} s`
  const s = Math.round(seconds)
  if (longest < 5400) return `${Math.floor(s / 60)}:${two(s % 60)} min`
  if (longest < 172800) return `${Math.floor(s / 3600)}:${two(Math.floor((s % 3600) / 60))} h`
  return `${Math.floor(s / 86400)} d ${Math.floor((s % 86400) / 3600)} h`
}

const months = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec']
/** A date as people write it: "31 Jan 2027". */
export function day(date: string): string {
  const [y, m, d] = date.split('-')
  return `${Number(d)} ${months[Number(m) - 1]} ${y}`
}
