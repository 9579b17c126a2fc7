import {
  acceptCompletion,
  autocompletion,
  completionKeymap,
  startCompletion,
  type CompletionContext,
  type CompletionResult,
} from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap, indentWithTab, isolateHistory } from '@codemirror/commands'
import { yaml } from '@codemirror/lang-yaml'
import { HighlightStyle, bracketMatching, foldGutter, indentOnInput, syntaxHighlighting } from '@codemirror/language'
import { lintGutter, lintKeymap, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { highlightSelectionMatches, searchKeymap } from '@codemirror/search'
import { EditorState, StateEffect, StateField } from '@codemirror/state'
import {
  Decoration,
  EditorView,
  drawSelection,
  highlightActiveLine,
  highlightActiveLineGutter,
  hoverTooltip,
  keymap,
  lineNumbers,
  type DecorationSet,
} from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { api, ask, type Message } from '../../api/client'

const look = EditorView.theme({
  '&': { height: '100%', backgroundColor: 'var(--sheet)', color: 'var(--ink)', fontSize: '12.5px' },
  '.cm-scroller': { fontFamily: 'var(--mono)', lineHeight: '19px' },
  '.cm-gutters': { backgroundColor: 'var(--ground)', color: 'var(--faint)', borderRight: '1px solid var(--line)' },
  '.cm-activeLine': { backgroundColor: 'color-mix(in srgb, var(--mill-soft) 55%, transparent)' },
  '.cm-activeLineGutter': { backgroundColor: 'var(--mill-soft)', color: 'var(--ink)' },
  '.cm-cursor': { borderLeftColor: 'var(--mill)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': {
    backgroundColor: 'color-mix(in srgb, var(--mill) 25%, transparent) !important',
  },
  '.cm-meant': { backgroundColor: 'color-mix(in srgb, var(--mill) 18%, transparent)' },
  '.cm-tooltip': {
    backgroundColor: 'var(--sheet)',
    border: '1px solid var(--line)',
    borderRadius: '4px',
    fontFamily: 'var(--text)',
    fontSize: '13px',
  },
  '.cm-diagnostic': { padding: '6px 10px', whiteSpace: 'pre-wrap', maxWidth: '520px' },
  '.cm-panels': { backgroundColor: 'var(--ground)', color: 'var(--ink)' },
  '.cm-panel input, .cm-panel button': {
    font: '13px/18px var(--text)',
    background: 'var(--sheet)',
    color: 'var(--ink)',
    border: '1px solid var(--line)',
    borderRadius: '4px',
    backgroundImage: 'none',
  },
  '.cm-tooltip.cm-tooltip-autocomplete > ul': { fontFamily: 'var(--mono)', maxHeight: '16em' },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { background: 'var(--mill-soft)', color: 'var(--ink)' },
  '.cm-completionDetail': { color: 'var(--faint)', fontStyle: 'normal', marginLeft: '12px' },
  '.cm-completionInfo': { padding: '6px 10px', maxWidth: '320px' },
  '.cm-lint-marker': { width: '9px', height: '9px', borderRadius: '2px', margin: '5px 2px', content: 'normal' },
  '.cm-lint-marker-error': { backgroundColor: 'var(--U)' },
  '.cm-lint-marker-warning': { backgroundColor: 'var(--W)' },
  '.cm-lint-marker-info': { backgroundColor: 'var(--mill)' },
  '.cm-help': { padding: '6px 10px', maxWidth: '420px' },
  '.cm-help b': { display: 'block', fontFamily: 'var(--mono)' },
  '.cm-lintPoint-info:after, .cm-lintRange-info': { borderBottomColor: 'var(--mill)' },
})

const ink = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: 'var(--ink)', fontWeight: '600' },
  { tag: tags.comment, color: 'var(--faint)', fontStyle: 'italic' },
  { tag: tags.string, color: 'var(--mill)' },
  { tag: [tags.number, tags.bool, tags.null, tags.keyword], color: 'var(--X)' },
  { tag: [tags.punctuation, tags.separator, tags.squareBracket, tags.brace], color: 'var(--faint)' },
])

/** What can stand at the cursor, as the server knows it. */
async function options(c: CompletionContext): Promise<CompletionResult | null> {
  const line = c.state.doc.lineAt(c.pos)
  const before = c.state.sliceDoc(line.from, c.pos)
  if (!c.explicit && !/[\w:/"'-]$|[:,[{-] $/.test(before)) return null
  try {
    const r = await ask(
      api.POST('/api/declaration/complete', {
        body: { text: c.state.doc.toString(), line: line.number, column: c.pos - line.from + 1 },
      }),
    )
    if (c.aborted || !r.options.length) return null
    return {
      from: Math.min(c.pos, line.from + r.from - 1),
      options: r.options.map((o, i) => ({
        label: o.label,
        detail: o.detail,
        info: o.info || undefined,
        apply: o.insert,
        boost: 99 - Math.min(198, i),
      })),
      filter: false,
    }
  } catch {
    return null // help that does not come is no reason to say anything
  }
}

async function explained(text: string, line: number, column: number) {
  try {
    const h = await ask(api.POST('/api/declaration/explain', { body: { text, line, column } }))
    return h.known ? h : null
  } catch {
    return null
  }
}

const help = hoverTooltip(
  async (view, pos) => {
    const line = view.state.doc.lineAt(pos)
    const h = await explained(view.state.doc.toString(), line.number, pos - line.from + 1)
    if (!h?.title) return null
    return {
      pos: Math.min(line.to, line.from + (h.column ?? 1) - 1),
      end: Math.min(line.to, line.from + (h.endColumn ?? 1) - 1),
      create() {
        const dom = document.createElement('div')
        dom.className = 'cm-help'
        const b = document.createElement('b')
        b.textContent = h.title ?? ''
        dom.append(b, h.text ?? '')
        if (h.line) {
          const where = document.createElement('div')
          where.style.color = 'var(--faint)'
          where.textContent = `${h.file}, line ${h.line} (F12)`
          dom.append(where)
        }
        return { dom }
      },
    }
  },
  { hoverTime: 350 },
)

const mean = StateEffect.define<number | null>()
const meant = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(deco, tr) {
    deco = deco.map(tr.changes)
    for (const e of tr.effects) {
      if (e.is(mean))
        deco =
          e.value === null
            ? Decoration.none
            : Decoration.set([Decoration.line({ class: 'cm-meant' }).range(tr.state.doc.line(e.value).from)])
    }
    return deco
  },
  provide: (f) => EditorView.decorations.from(f),
})

export function makeEditor(
  parent: HTMLElement,
  text: string,
  changed: (text: string) => void,
  keep: () => void,
  elsewhere: (file: string, line: number) => void,
): EditorView {
  async function define(view: EditorView, pos: number) {
    const line = view.state.doc.lineAt(pos)
    const h = await explained(view.state.doc.toString(), line.number, pos - line.from + 1)
    if (h?.line && h.file) elsewhere(h.file, h.line)
  }
  const view = new EditorView({
    parent,
    state: EditorState.create({
      doc: text,
      extensions: [
        lineNumbers(),
        foldGutter(),
        lintGutter(),
        history(),
        drawSelection(),
        indentOnInput(),
        bracketMatching(),
        highlightActiveLine(),
        highlightActiveLineGutter(),
        highlightSelectionMatches(),
        yaml(),
        syntaxHighlighting(ink),
        look,
        meant,
        help,
        autocompletion({ override: [options], icons: false, activateOnTypingDelay: 80 }),
        EditorView.domEventHandlers({
          mousedown(e, view) {
            if (!(e.ctrlKey || e.metaKey)) return false
            const pos = view.posAtCoords({ x: e.clientX, y: e.clientY })
            if (pos === null) return false
            e.preventDefault()
            void define(view, pos)
            return true
          },
        }),
        EditorView.lineWrapping,
        EditorView.contentAttributes.of({ 'aria-label': 'Declaration' }),
        keymap.of([
          { key: 'Mod-s', preventDefault: true, run: () => (keep(), true) },
          { key: 'F12', run: (v) => (void define(v, v.state.selection.main.head), true) },
          { key: 'Ctrl-Space', run: startCompletion },
          { key: 'Tab', run: acceptCompletion },
          ...completionKeymap,
          indentWithTab,
          ...defaultKeymap,
          ...historyKeymap,
          ...searchKeymap,
          ...lintKeymap,
        ]),
        EditorView.updateListener.of((u) => u.docChanged && changed(u.state.doc.toString())),
      ],
    }),
  })
  view.scrollDOM.tabIndex = 0 // it scrolls by keyboard too
  return view
}

/** Goes to a line and marks it. */
export function goTo(view: EditorView, line: number) {
  const l = view.state.doc.line(Math.max(1, Math.min(view.state.doc.lines, line)))
  view.dispatch({
    selection: { anchor: l.from },
    effects: [mean.of(l.number), EditorView.scrollIntoView(l.from, { y: 'center' })],
  })
  view.focus()
}

/** Shows messages where they belong; those of other files stand at the top. */
export function showMessages(view: EditorView, file: string, messages: Message[]) {
  const doc = view.state.doc
  const diagnostics: Diagnostic[] = messages.map((m) => {
    const here = m.file === file
    const line = doc.line(here ? Math.max(1, Math.min(doc.lines, m.line)) : 1)
    const from = here ? Math.min(line.to, line.from + m.column - 1) : line.from
    return {
      from,
      to: Math.max(from, Math.min(line.to, line.from + m.endColumn - 1)),
      severity: m.level === 'error' ? 'error' : m.severity === 'low' ? 'info' : 'warning',
      message: `${m.text}${m.hint ? `\n${m.hint}` : ''}`,
      source: m.code,
    }
  })
  view.dispatch(setDiagnostics(view.state, diagnostics))
}

export function setText(view: EditorView, text: string) {
  view.dispatch({
    changes: { from: 0, to: view.state.doc.length, insert: text },
    annotations: isolateHistory.of('full'), // one step to undo, whatever was typed just before
  })
}
