import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import { api, ask, message, type Observation } from '../api/client'

/** What targets let happen today, in groups, and how far it is while one is asked. */
export const useObserving = defineStore('observing', () => {
  const seen = shallowRef<Observation | null>(null)
  const progress = ref<{ done: number; planned: number } | null>(null)
  const error = ref('')
  let turn = 0
  let looking = false
  let asked = { target: '', text: '' }

  /** Reads what was observed of a target, beside a text that is not kept yet. */
  async function look(target: string, text: string): Promise<void> {
    asked = { target, text }
    const mine = ++turn
    looking = true
    try {
      const o = await ask(api.POST('/api/observe/look', { body: { target, text } }))
      if (mine === turn) take(o)
    } catch (e) {
      if (mine === turn) error.value = message(e)
    } finally {
      if (mine === turn) looking = false
    }
  }
  function take(o: Observation) {
    seen.value = o
    error.value = ''
    progress.value = o.state === 'running' ? { done: o.done, planned: o.planned } : null
  }

  async function start(target: string, also: string[], all: boolean): Promise<void> {
    await ask(api.POST('/api/observe', { body: { target, callers: [], also, all } }))
    // It may have ended before this answer came: what holds is what is read from now on.
    await look(asked.target, asked.text)
  }
  async function stop(target: string): Promise<void> {
    await ask(api.POST('/api/observe/stop', { body: { target } }))
    await look(asked.target, asked.text)
  }

  /**
   * Follows one that runs, here or in another window. Word of a read may come after what was read says that it ended:
   * it brings no progress back then, it has what is known read anew.
   */
  function moved(p: { target: string; done: number; planned: number; ended: boolean }) {
    if (p.target !== asked.target) return
    if (!p.ended && seen.value?.state === 'running') progress.value = { done: p.done, planned: p.planned }
    else if (p.ended || !looking) void look(asked.target, asked.text)
  }

  return {
    seen: computed(() => seen.value),
    progress: computed(() => progress.value),
    error: computed(() => error.value),
    look,
    start,
    stop,
    moved,
  }
})
