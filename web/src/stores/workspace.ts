import { useLocalStorage } from '@vueuse/core'
import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import { api, ask, message, type Board } from '../api/client'
import { follow, none, type BoardRow, type Rows } from './rows'
import { useSweep } from './sweep'

/** A board whose rows have their cells. */
export interface Shown extends Omit<Board, 'rows'> {
  rows: BoardRow[]
}

/** What is declared and what was seen of it: the board of the target that is looked at. */
export const useWorkspace = defineStore('workspace', () => {
  const sweep = useSweep()
  const board = shallowRef<Shown | null>(null)
  const error = ref('')
  const target = useLocalStorage('millgate.target', '')
  const connected = ref(true)
  const version = ref(0) // goes up whenever something that was shown may have changed
  let rows: Rows = none
  let of = '' // the target whose rows they are
  let loading = false
  let stale = false

  async function take(): Promise<void> {
    const heard = sweep.ends
    const query = {
      target: target.value || undefined,
      since: of === target.value ? rows.version || undefined : undefined,
    }
    const b = await ask(api.GET('/api/board', { params: { query } }))
    const next = follow(rows, b)
    if (!next) {
      rows = none
      return take()
    }
    rows = next
    of = b.target
    board.value = { ...b, rows: rows.list }
    error.value = ''
    target.value = b.target
    sweep.seen(b.sweep, heard)
    if (b.sweep) await sweep.load(b.target)
    version.value++
  }

  /** Asks for what changed; who asks meanwhile is served once more. */
  async function refresh(): Promise<void> {
    if (loading) {
      stale = true
      return
    }
    loading = true
    try {
      await take()
    } catch (e) {
      error.value = message(e)
    } finally {
      loading = false
      if (stale) {
        stale = false
        void refresh()
      }
    }
  }

  function choose(name: string) {
    target.value = name
    sweep.clear()
    void refresh()
  }

  function connect(up: boolean) {
    connected.value = up
  }

  return {
    board: computed(() => board.value),
    boardError: computed(() => error.value),
    target: computed(() => target.value),
    connected: computed(() => connected.value),
    version: computed(() => version.value),
    notFair: computed(() => board.value?.notFair ?? 0),
    refresh,
    choose,
    connect,
  }
})
