import { shallowRef, type Directive } from 'vue'

/** What is said beside a chip or a column's head that is pointed at, or has the focus. */
export const said = shallowRef<{ of: HTMLElement; text: string } | null>(null)

const texts = new WeakMap<HTMLElement, string>()
let waiting = 0

function say(of: HTMLElement, after: number) {
  window.clearTimeout(waiting)
  waiting = window.setTimeout(() => {
    const text = texts.get(of)
    if (text && of.isConnected) said.value = { of, text }
  }, after)
}
function hush(of: HTMLElement) {
  window.clearTimeout(waiting)
  if (said.value?.of === of) said.value = null
}
function set(el: HTMLElement, text: string | undefined) {
  texts.set(el, text ?? '')
  if (text) el.setAttribute('aria-description', text)
  else el.removeAttribute('aria-description')
}

/** Explains what it stands on, to the eye on hover and on focus by the keyboard, and to who listens. */
export const vSays: Directive<HTMLElement, string | undefined> = {
  mounted(el, { value }) {
    set(el, value)
    if (el.tabIndex < 0) el.tabIndex = 0
    el.addEventListener('mouseenter', () => say(el, 350))
    el.addEventListener('mouseleave', () => hush(el))
    el.addEventListener('focus', () => el.matches(':focus-visible') && say(el, 0))
    el.addEventListener('blur', () => hush(el))
    el.addEventListener('click', () => hush(el)) // what it leads to is not to be covered
    el.addEventListener('keydown', (e) => e.key === 'Escape' && hush(el))
  },
  updated: (el, { value }) => set(el, value),
  unmounted: hush,
}
