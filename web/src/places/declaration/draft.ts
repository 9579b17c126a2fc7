/** A text that was changed and not kept yet; it survives a reload. */
export interface Draft {
  text: string
  base: number // the revision it was made from
}

const key = 'millgate.draft'

export function draft(): Draft | null {
  try {
    const d = JSON.parse(localStorage.getItem(key) ?? 'null') as Draft | null
    return d && typeof d.text === 'string' && typeof d.base === 'number' ? d : null
  } catch {
    return null
  }
}

export function keepDraft(text: string, base: number) {
  try {
    localStorage.setItem(key, JSON.stringify({ text, base }))
  } catch {
    // A full storage must not stop the typing.
  }
}

export function clearDraft() {
  localStorage.removeItem(key)
}
