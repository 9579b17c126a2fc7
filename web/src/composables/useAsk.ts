import { useMessage } from 'naive-ui'
import { ref } from 'vue'
import { message } from '../api/client'

/** Does one thing at a time for a component: it says while it lasts, and what went wrong. */
export function useAsk() {
  const toast = useMessage()
  const busy = ref(false)
  async function run<T>(what: () => Promise<T>): Promise<T | undefined> {
    if (busy.value) return undefined
    busy.value = true
    try {
      return await what()
    } catch (e) {
      toast.error(message(e), { duration: 8000 })
      return undefined
    } finally {
      busy.value = false
    }
  }
  return { busy, run }
}
