import { storeToRefs } from 'pinia'
import { computed, onBeforeUnmount, ref } from 'vue'
import { message, Problem, type Audited } from '../../api/client'
import { useAudits } from '../../stores/audits'
import { useWorkspace } from '../../stores/workspace'

/** The audit of a file of tokens: it is sent as a stream, and can be stopped. */
export function useAudit() {
  const { target } = storeToRefs(useWorkspace())
  const { audits } = storeToRefs(useAudits())
  const { forget } = useAudits()

  const file = ref('')
  const size = ref(0)
  const result = ref<Audited | null>(null)
  const error = ref('')
  const id = ref('')
  const stopper = ref<AbortController | null>(null)
  const progress = computed(() => audits.value.get(id.value))
  const part = computed(() =>
    size.value ? Math.min(100, Math.round((100 * (progress.value?.bytes ?? 0)) / size.value)) : 0,
  )

  async function audit(f: File) {
    file.value = f.name
    size.value = f.size
    result.value = null
    error.value = ''
    id.value = crypto.randomUUID()
    stopper.value = new AbortController()
    const signal = stopper.value.signal
    try {
      const q = new URLSearchParams({ id: id.value, ...(target.value ? { target: target.value } : {}) })
      const response = await fetch(`/api/tokens/audit?${q}`, {
        method: 'POST',
        body: f,
        headers: { 'Content-Type': 'application/octet-stream' },
        signal,
      })
      const body = (await response.json()) as Audited & { detail?: string }
      if (!response.ok) throw new Problem(response.status, body.detail ?? `The server answered ${response.status}.`)
      result.value = body
    } catch (e) {
      error.value = signal.aborted ? 'Stopped. Nothing was kept.' : message(e)
    } finally {
      stopper.value = null
      forget(id.value)
    }
  }
  function pick(e: globalThis.Event) {
    const input = e.target as HTMLInputElement
    if (input.files?.[0]) void audit(input.files[0])
    input.value = ''
  }
  function drop(e: DragEvent) {
    const f = e.dataTransfer?.files[0]
    if (f) void audit(f)
  }
  onBeforeUnmount(() => stopper.value?.abort())
  return { file, result, error, stopper, progress, part, pick, drop }
}
