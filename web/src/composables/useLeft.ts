import { ref } from 'vue'

/** What of a list is left out, by its id: all is taken until somebody says otherwise. */
export function useLeft() {
  const left = ref(new Set<string>())
  function toggle(id: string, on: boolean) {
    if (on) left.value.delete(id)
    else left.value.add(id)
  }
  return { left, toggle }
}
