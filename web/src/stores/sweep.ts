import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import { api, ask, type Sweep, type Tick } from '../api/client'
import { isGap } from '../theme/kinds'

/** The verdicts of a sweep as a line: how many there are, and those that are known in full. */
export interface Line {
  total: number
  gaps: { at: number; tick: Tick }[]
}

const empty: Line = { total: 0, gaps: [] }

/** The sweep that runs or ran last, and the verdicts that landed. */
export const useSweep = defineStore('sweep', () => {
  const running = shallowRef<Sweep | null>(null)
  const last = shallowRef<Sweep | null>(null)
  const line = shallowRef<Line>(empty)
  const waiting = ref('')
  const failure = ref('') // why the last sweep could not check its target
  const ends = ref(0) // sweeps that were heard to end
  const lately = new Map<number, Tick>() // those that landed while somebody looked, by their turn
  let loaded = '' // the target whose line is known

  /** Takes in what a board says of its sweep. An answer from before the end must not bring it back. */
  function seen(s: Sweep | undefined, heard: number) {
    if (!s) {
      if (!running.value) last.value = null
    } else if (s.state !== 'running') last.value = s
    else if (heard === ends.value) running.value = s
  }

  /** Reads the gaps of a target that are known already. */
  async function load(target: string) {
    if (loaded === target) return
    loaded = target
    const gaps: Line['gaps'] = []
    let total = 0
    try {
      for (let after: string | undefined, pages = 0; pages < 20; pages++) {
        const page = await ask(
          api.GET('/api/ticks', { params: { query: { target: target || undefined, gaps: true, limit: 500, after } } }),
        )
        gaps.push(...page.items.map((tick) => ({ at: tick.at, tick })))
        total = page.total
        after = page.next
        if (!after) break
      }
    } catch (e) {
      loaded = '' // to be asked for again
      throw e
    }
    // Those that landed meanwhile are the newer ones.
    const known = new Set(gaps.map((g) => g.tick.probe))
    const late = line.value.gaps
      .filter((g) => !known.has(g.tick.probe))
      .map((g, i) => ({ at: total + i, tick: g.tick }))
    lately.clear()
    line.value = { total: total + late.length, gaps: [...gaps, ...late] }
  }

  /** One verdict of the line, in full. */
  async function at(turn: number, target: string): Promise<Tick | null> {
    const known = lately.get(turn) ?? line.value.gaps.find((g) => g.at === turn)?.tick
    if (known || turn < 0 || turn >= line.value.total) return known ?? null
    const query = { target: target || undefined, after: String(turn), limit: 1 }
    const page = await ask(api.GET('/api/ticks', { params: { query } }))
    const tick = page.items[0] ?? null
    if (tick) lately.set(turn, tick)
    return tick
  }

  function clear() {
    line.value = empty
    lately.clear()
    loaded = ''
  }

  function land(list: Tick[]) {
    const from = line.value.total
    list.forEach((t, i) => lately.set(from + i, t))
    const gaps = list.flatMap((tick, i) => (isGap(tick.kind) ? [{ at: from + i, tick }] : []))
    line.value = {
      total: from + list.length,
      gaps: gaps.length ? [...line.value.gaps, ...gaps] : line.value.gaps,
    }
  }

  /** Takes in how far a sweep is. It says whether that one has ended. */
  function moved(s: Sweep, target: string): boolean {
    if (s.state === 'running') {
      if (running.value?.id !== s.id) {
        clear()
        if (s.done > 0)
          void load(target).catch(() => undefined) // one that goes on has landed some already
        else loaded = target
      }
      running.value = s
      failure.value = ''
      return false
    }
    failure.value = s.state === 'failed' ? s.note : ''
    ends.value++
    running.value = null
    waiting.value = ''
    if (!s.partial) last.value = s
    return true
  }

  function wait(text: string) {
    waiting.value = text
  }

  function forget() {
    running.value = null
  }

  return {
    running: computed(() => running.value),
    last: computed(() => last.value),
    line: computed(() => line.value),
    waiting: computed(() => waiting.value),
    failure: computed(() => failure.value),
    ends: computed(() => ends.value),
    seen,
    load,
    at,
    clear,
    land,
    moved,
    wait,
    forget,
  }
})
