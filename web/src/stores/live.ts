import { useThrottleFn } from '@vueuse/core'
import { listen } from '../api/events'
import type { Event } from '../api/client'
import { useAudits } from './audits'
import { useObserving } from './observing'
import { useSweep } from './sweep'
import { useWorkspace } from './workspace'

/** Follows what happens at the server, until what it returns is called. */
export function follow(): () => void {
  const workspace = useWorkspace()
  const sweep = useSweep()
  const audits = useAudits()
  const observing = useObserving()
  // While verdicts land the board is asked for what changed, twice a second.
  const soon = useThrottleFn(() => workspace.refresh(), 500, true, false)
  function anew() {
    sweep.forget()
    sweep.clear()
    void workspace.refresh()
  }
  void workspace.refresh()
  const on: { [T in Event['type']]: (e: Event) => void } = {
    verdicts: (e) => {
      sweep.land(e.ticks ?? [])
      void soon()
    },
    sweep: (e) => {
      if (e.sweep && sweep.moved(e.sweep, workspace.target)) void workspace.refresh()
    },
    audit: (e) => e.audit && audits.moved(e.audit),
    observe: (e) => e.progress && observing.moved(e.progress),
    wait: (e) => sweep.wait(e.text ?? ''),
    declaration: () => void workspace.refresh(),
    missed: anew,
  }
  return listen((e) => on[e.type]?.(e), workspace.connect)
}
