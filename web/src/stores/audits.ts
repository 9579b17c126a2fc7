import { defineStore } from 'pinia'
import { computed, ref } from 'vue'

/** How far audits of tokens are, by their ids. */
export const useAudits = defineStore('audits', () => {
  const audits = ref(new Map<string, { bytes: number; tokens: number }>())
  return {
    audits: computed(() => audits.value),
    moved: (p: { id: string; bytes: number; tokens: number }) => void audits.value.set(p.id, p),
    forget: (id: string) => void audits.value.delete(id),
  }
})
