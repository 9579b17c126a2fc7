import { computed, ref } from 'vue'
import { storeToRefs } from 'pinia'
import { api, ask } from '../api/client'
import { usePending } from '../stores/pending'
import { useWorkspace } from '../stores/workspace'
import { useAsk } from './useAsk'

/** Accepts findings as a pending edit: `meant` are those that somebody is asked about. */
export function useWaive(done?: () => void) {
  const { target } = storeToRefs(useWorkspace())
  const { edit } = usePending()
  const { run } = useAsk()
  const meant = ref<string[]>([])
  const asking = computed({ get: () => meant.value.length > 0, set: (v) => !v && (meant.value = []) })
  async function waive(how: { reason: string; by: string; until: string }) {
    await run(async () => {
      const body = { target: target.value, findings: meant.value, ...how }
      await edit(
        (text) => ask(api.POST('/api/findings/waive', { body: { ...body, text } })),
        (r) => r.title,
      )
      meant.value = []
      done?.()
    })
  }
  return { meant, asking, waive }
}

/** What a dialog says of it. */
export const waiverSays =
  'It is written into the declaration as a pending edit, with the callers of now. The finding stays in every list and ' +
  'report, as waived; one that another caller shows is open again, and so is this one after that day.'
