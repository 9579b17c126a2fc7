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
  keymap,
  lineNumbers,
  type DecorationSet,
} from '@codemirror/view'
import { tags } from '@lezer/highlight'
import type { Message } from '../../api/client'

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
})

const ink = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: 'var(--ink)', fontWeight: '600' },
  { tag: tags.comment, color: 'var(--faint)', fontStyle: 'italic' },
  { tag: tags.string, color: 'var(--mill)' },
  { tag: [tags.number, tags.bool, tags.null, tags.keyword], color: 'var(--X)' },
  { tag: [tags.punctuation, tags.separator, tags.squareBracket, tags.brace], color: 'var(--faint)' },
])

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
): EditorView {
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
        EditorView.lineWrapping,
        EditorView.contentAttributes.of({ 'aria-label': 'Declaration' }),
        keymap.of([
          { key: 'Mod-s', preventDefault: true, run: () => (keep(), true) },
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
      severity: m.level === 'error' ? 'error' : 'warning',
      message: m.hint ? `${m.text}\n${m.hint}` : m.text,
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
