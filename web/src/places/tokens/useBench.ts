import { useMessage } from 'naive-ui'
import { storeToRefs } from 'pinia'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, message, type Minted, type TokenView } from '../../api/client'
import { useAsk } from '../../composables/useAsk'
import { useWorkspace } from '../../stores/workspace'

interface Seen {
  what: string
  view: TokenView
}

/** The token on the bench, what is said about it, and those that were judged before. */
export function useBench() {
  const { board, target } = storeToRefs(useWorkspace())
  const toast = useMessage()
  const { run } = useAsk()
  const url = useRoute()
  const router = useRouter()

  const text = ref('')
  const refreshToken = ref(false)
  const view = ref<TokenView | null>(null)
  const error = ref('')
  const busy = ref(false)
  const kept = ref<string[]>([])
  const history = ref<Seen[]>([]) // masked, and gone with the page

  const callers = computed(() =>
    (board.value?.columns ?? []).filter((c) => c.key).map((c) => ({ label: c.label, value: c.key })),
  )
  const who = ref<string | null>(null)

  async function judge(
    what: string,
    how: Partial<{ text: string; obtain: boolean; identity: string; kept: string; ask: boolean }>,
  ) {
    error.value = ''
    busy.value = true
    try {
      const v = await ask(
        api.POST('/api/tokens/judge', {
          body: {
            text: '',
            target: target.value,
            identity: '',
            scheme: '',
            obtain: false,
            kept: '',
            refresh: refreshToken.value,
            ...how,
          },
        }),
      )
      view.value = v
      history.value = [{ what, view: v }, ...history.value.filter((h) => h.view.fingerprint !== v.fingerprint)].slice(
        0,
        8,
      )
    } catch (e) {
      error.value = message(e)
      view.value = null
    } finally {
      busy.value = false
    }
  }
  const read = () => judge('pasted', { text: text.value })
  const askIssuer = () => judge('pasted', { text: text.value, ask: true })
  function take(name: string) {
    who.value = name
    return judge(`obtained for ${name}`, { obtain: true, identity: name })
  }
  async function paste(e: ClipboardEvent) {
    const t = e.clipboardData?.getData('text') ?? ''
    if (t.trim().length > 20 && !text.value) {
      e.preventDefault()
      text.value = t
      await read()
    }
  }
  async function drop(e: DragEvent) {
    const f = e.dataTransfer?.files[0]
    const t = f ? await f.slice(0, 1 << 17).text() : (e.dataTransfer?.getData('text') ?? '')
    if (t) {
      text.value = t
      await read()
    }
  }
  function clear() {
    text.value = ''
    view.value = null
    error.value = ''
  }

  async function readKept() {
    try {
      kept.value = await ask(api.GET('/api/tokens/kept'))
    } catch (e) {
      error.value = message(e)
    }
  }
  async function forget(n: string) {
    await run(async () => {
      await ask(api.DELETE('/api/tokens/kept', { params: { query: { name: n } } }))
      await readKept()
    })
  }
  async function keep(name: string) {
    await run(async () => {
      await ask(api.PUT('/api/tokens/kept', { body: { name, text: text.value } }))
      toast.success(`Sealed as ${name}, until you forget it.`)
      await readKept()
    })
  }
  /** A token that was made, until another one is read. */
  const minted = ref<(Minted & { of: string }) | null>(null)
  watch(text, (t) => {
    if (t !== minted.value?.token) minted.value = null
  })
  /** Judges a token that was made. */
  async function made(m: Minted, of: string) {
    minted.value = { ...m, of }
    text.value = m.token
    await read()
  }

  onMounted(() => {
    void readKept()
    const from = String(url.query.identity ?? '')
    if (from) void take(from)
  })
  watch(
    () => url.query.identity,
    (n) => n && n !== who.value && void take(String(n)),
  )
  watch(who, (n) => n && n !== url.query.identity && void router.replace({ query: { ...url.query, identity: n } }))

  return {
    text,
    refreshToken,
    view,
    busy,
    error,
    kept,
    history,
    callers,
    who,
    target,
    judge,
    read,
    askIssuer,
    take,
    paste,
    drop,
    clear,
    keep,
    forget,
    made,
    minted,
  }
}
