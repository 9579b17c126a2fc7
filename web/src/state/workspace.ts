import { computed, ref, shallowRef } from 'vue'
import { api, ask, message, type Board, type Sweep, type Tick } from '../api/client'
import { listen } from '../api/events'

export const board = shallowRef<Board | null>(null)
export const boardError = ref('')
export const target = ref(localStorage.getItem('millgate.target') ?? '')
export const running = shallowRef<Sweep | null>(null)
export const last = shallowRef<Sweep | null>(null)
export const ticks = shallowRef<Tick[]>([])
export const waiting = ref('')
export const connected = ref(true)
export const version = ref(0) // goes up whenever something that was shown may have changed
export const notFair = ref(0)
export const failure = ref('') // why the last sweep could not check its target

/** The sweep that the strip tells of. */
export const shown = computed(() => running.value ?? last.value)

export const audits = ref(new Map<string, { bytes: number; tokens: number }>()) // how far token audits are

let ends = 0 // sweeps that were heard to end
let loading = false
let stale = false

export async function refresh(): Promise<void> {
  if (loading) {
    stale = true
    return
  }
  loading = true
  const heard = ends
  try {
    const b = await ask(api.GET('/api/board', { params: { query: target.value ? { target: target.value } : {} } }))
    board.value = b
    boardError.value = ''
    target.value = b.target
    if (b.target) localStorage.setItem('millgate.target', b.target)
    if (b.sweep) {
      // An answer from before the end must not bring the sweep back.
      if (b.sweep.state !== 'running') last.value = b.sweep
      else if (heard === ends) running.value = b.sweep
    } else if (!running.value) last.value = null
    const list = await ask(api.GET('/api/worklist', { params: { query: b.target ? { target: b.target } : {} } }))
    notFair.value = list.length
    if (b.sweep && !ticks.value.length) {
      const known = await ask(api.GET('/api/ticks', { params: { query: b.target ? { target: b.target } : {} } }))
      if (!ticks.value.length && !pending.length) ticks.value = known
    }
    version.value++
  } catch (e) {
    boardError.value = message(e)
  } finally {
    loading = false
    if (stale) {
      stale = false
      void refresh()
    }
  }
}

export function chooseTarget(name: string) {
  target.value = name
  ticks.value = []
  void refresh()
}

/** Puts the verdicts that are known before those that landed meanwhile. */
async function known() {
  try {
    const list = await ask(api.GET('/api/ticks', { params: { query: target.value ? { target: target.value } : {} } }))
    const have = new Set(list.map((t) => t.probe))
    ticks.value = [...list, ...ticks.value.filter((t) => !have.has(t.probe))]
  } catch {
    // The line only begins later.
  }
}

let timer = 0
function soon() {
  if (!timer)
    timer = window.setTimeout(() => {
      timer = 0
      void refresh()
    }, 500)
}

let pending: Tick[] = []
let frame = 0
function land(t: Tick) {
  pending.push(t)
  if (!frame)
    frame = requestAnimationFrame(() => {
      frame = 0
      ticks.value = [...ticks.value, ...pending].slice(-20000)
      pending = []
    })
}

export function start(): () => void {
  void refresh()
  return listen(
    (e) => {
      if (e.type === 'verdict' && e.tick) {
        land(e.tick)
        soon()
      } else if (e.type === 'sweep' && e.sweep) {
        const s = e.sweep
        if (s.state === 'running') {
          if (running.value?.id !== s.id) {
            ticks.value = []
            pending = []
            if (s.done > 0) void known() // one that goes on has landed some already
          }
          running.value = s
          failure.value = ''
        } else {
          failure.value = s.state === 'failed' ? s.note : ''
          ends++
          running.value = null
          waiting.value = ''
          if (!s.partial) last.value = s
          void refresh()
        }
      } else if (e.type === 'audit' && e.audit) {
        audits.value.set(e.audit.id, e.audit)
      } else if (e.type === 'wait') {
        waiting.value = e.text ?? ''
      } else if (e.type === 'declaration') {
        void refresh()
      }
    },
    () => {
      running.value = null
      void refresh()
    },
    (up) => (connected.value = up),
  )
}
