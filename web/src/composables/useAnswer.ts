import { ref, shallowRef, watch } from 'vue'
import { message } from '../api/client'

/** The answer to a question that is asked anew whenever what it is about changes. Of several that are on their way
 * the one that was asked last counts. A question can have nothing to ask: then there is no answer either. */
export function useAnswer<T>(about: () => unknown, question: () => Promise<T> | undefined, o: { keep?: boolean } = {}) {
  const answer = shallowRef<T>()
  const error = ref('')
  const busy = ref(false)
  let turn = 0
  watch(
    about,
    async () => {
      const mine = ++turn
      const asked = question()
      busy.value = !!asked
      try {
        const got = await asked
        if (mine !== turn) return
        answer.value = got
        error.value = ''
      } catch (e) {
        if (mine !== turn) return
        if (!o.keep) answer.value = undefined // else the last one stays beside what went wrong
        error.value = message(e)
      }
      busy.value = false
    },
    { immediate: true },
  )
  return { answer, error, busy }
}
