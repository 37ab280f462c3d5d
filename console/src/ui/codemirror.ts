/** The code editor in the colours of the design system; loaded when the first document is shown. */
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands'
import { json } from '@codemirror/lang-json'
import {
  bracketMatching,
  codeFolding,
  foldGutter,
  foldKeymap,
  HighlightStyle,
  syntaxHighlighting,
  syntaxTree,
} from '@codemirror/language'
import { lintGutter, setDiagnostics } from '@codemirror/lint'
import { MergeView } from '@codemirror/merge'
import { highlightSelectionMatches, openSearchPanel, search, searchKeymap } from '@codemirror/search'
import {
  Compartment,
  EditorSelection,
  EditorState,
  type Extension,
  RangeSet,
  StateEffect,
  StateField,
} from '@codemirror/state'
import {
  Decoration,
  type DecorationSet,
  drawSelection,
  EditorView,
  highlightActiveLine,
  keymap,
  lineNumbers,
} from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { DocumentForm, FindingSeverity } from '../api/schema'
import type { FindingView } from '../api/schema'

const look = EditorView.theme({
  // Few fonts have the default sign.
  '.cm-collapsedLines:before, .cm-collapsedLines:after': { content: '"…" !important' },
  '&': { fontSize: '0.8125rem', backgroundColor: 'transparent', color: 'var(--color-ink)', height: '100%' },
  '.cm-scroller': { fontFamily: 'var(--font-mono)', fontVariationSettings: "'MONO' 1", lineHeight: '1.55' },
  '.cm-gutters': { backgroundColor: 'transparent', color: 'var(--color-faint)', border: 'none' },
  '.cm-activeLine, .cm-activeLineGutter': {
    backgroundColor: 'color-mix(in oklab, var(--color-thread) 7%, transparent)',
  },
  '.cm-cursor': { borderLeftColor: 'var(--color-ink)' },
  '&.cm-focused': { outline: 'none' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': {
    backgroundColor: 'color-mix(in oklab, var(--color-thread) 24%, transparent) !important',
  },
  '.cm-selectionMatch': { backgroundColor: 'color-mix(in oklab, var(--color-retrying) 22%, transparent)' },
  '.cm-searchMatch': { backgroundColor: 'color-mix(in oklab, var(--color-retrying) 30%, transparent)' },
  '.cm-panels': { backgroundColor: 'var(--color-sunken)', color: 'var(--color-ink)', borderColor: 'var(--color-line)' },
  '.cm-textfield, .cm-button': {
    fontSize: '0.8125rem',
    backgroundColor: 'var(--color-surface)',
    backgroundImage: 'none',
    color: 'var(--color-ink)',
    border: '1px solid var(--color-line-strong)',
    borderRadius: 'var(--radius-sm)',
  },
  '.cm-foldPlaceholder': {
    backgroundColor: 'var(--color-sunken)',
    border: '1px solid var(--color-line)',
    color: 'var(--color-soft)',
  },
  '.cm-chosen': {
    backgroundColor: 'color-mix(in oklab, var(--color-thread) 26%, transparent)',
    borderRadius: '2px',
    schema: '1px solid var(--color-thread)',
  },
  '.cm-tooltip': {
    backgroundColor: 'var(--color-raised)',
    border: '1px solid var(--color-line)',
    color: 'var(--color-ink)',
  },
  '.cm-diagnostic-error': { borderLeftColor: 'var(--color-failed)' },
  '&.cm-merge-a .cm-changedLine, .cm-deletedChunk': {
    backgroundColor: 'color-mix(in oklab, var(--color-failed) 9%, transparent)',
  },
  '&.cm-merge-b .cm-changedLine': { backgroundColor: 'color-mix(in oklab, var(--color-done) 10%, transparent)' },
  '&.cm-merge-a .cm-changedText': { background: 'color-mix(in oklab, var(--color-failed) 26%, transparent)' },
  '&.cm-merge-b .cm-changedText': { background: 'color-mix(in oklab, var(--color-done) 28%, transparent)' },
})

const colours = HighlightStyle.define([
  { tag: tags.propertyName, color: 'var(--color-thread)' },
  { tag: tags.string, color: 'var(--color-ink)' },
  { tag: tags.number, color: 'var(--color-running)' },
  { tag: [tags.bool, tags.null], color: 'var(--color-waiting)' },
  { tag: [tags.separator, tags.brace, tags.squareBracket], color: 'var(--color-faint)' },
])

/** Extensions that every view of a document has. */
function basics(form: string, label: string, /** Long lines are broken. */ wraps = true): Extension[] {
  return [
    lineNumbers(),
    drawSelection(),
    highlightSelectionMatches(),
    search({ top: true }),
    look,
    syntaxHighlighting(colours),
    EditorView.contentAttributes.of({ 'aria-label': label, tabindex: '0' }),
    keymap.of([...searchKeymap, ...foldKeymap, ...defaultKeymap]),
    form === DocumentForm.json
      ? [json(), foldGutter(), codeFolding(), bracketMatching()]
      : wraps
        ? EditorView.lineWrapping
        : [],
  ]
}

const choose = StateEffect.define<{ from: number; to: number } | null>()
const chosen = StateField.define<DecorationSet>({
  create: () => RangeSet.empty,
  update(marks, { effects, changes }) {
    const effect = effects.find((one) => one.is(choose))
    if (!effect) return marks.map(changes)
    const range = effect.value as { from: number; to: number } | null
    return range && range.to > range.from
      ? Decoration.set(Decoration.mark({ class: 'cm-chosen' }).range(range.from, range.to))
      : RangeSet.empty
  },
  provide: (field) => EditorView.decorations.from(field),
})

export interface Options {
  text: string
  /** `json`, `x12` or `bytes`. */
  form: string
  /** For screen readers. */
  label: string
  editable?: boolean
  /** Called when the user changes the text. */
  onChange?(text: string): void
  /** Called when the cursor moves; the line counts from 1, the column from 0. */
  onPlace?(line: number, column: number, path: string): void
}

/** Shows one document. */
export function view(parent: HTMLElement, { text, form, label, editable, onChange, onPlace }: Options) {
  const diagnostics = new Compartment()
  const editor = new EditorView({
    parent,
    state: EditorState.create({
      doc: text,
      extensions: [
        basics(form, label),
        chosen,
        editable
          ? [history(), keymap.of(historyKeymap), lintGutter(), highlightActiveLine()]
          : [EditorState.readOnly.of(true), EditorView.editable.of(false)],
        diagnostics.of(
          EditorView.updateListener.of((update) => {
            if (update.docChanged) onChange?.(update.state.doc.toString())
            if (update.selectionSet && onPlace) {
              const at = update.state.selection.main.head
              const line = update.state.doc.lineAt(at)
              onPlace(line.number, at - line.from, form === DocumentForm.json ? pathAt(update.state, at) : '')
            }
          }),
        ),
      ],
    }),
  })
  return {
    destroy: () => editor.destroy(),
    text: () => editor.state.doc.toString(),
    replace(text: string) {
      if (text !== editor.state.doc.toString()) {
        editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: text } })
      }
    },
    /** Marks columns of a line and scrolls to them, and can select them; without a line, removes the mark. */
    choose(line?: number, from = 0, to = 0, select = false) {
      if (!line || line > editor.state.doc.lines) return editor.dispatch({ effects: choose.of(null) })
      const start = editor.state.doc.line(line).from
      const range = { from: start + from, to: Math.min(start + to, editor.state.doc.length) }
      // What is typed replaces it.
      if (select) {
        editor.dispatch({ selection: EditorSelection.range(range.from, range.to) })
        editor.focus()
      }
      editor.dispatch({
        effects: [
          choose.of(range),
          EditorView.scrollIntoView(EditorSelection.range(range.from, range.to), { y: 'center' }),
        ],
      })
    },
    find() {
      editor.focus()
      openSearchPanel(editor)
    },
    /** Shows findings at their positions. */
    findings(all: FindingView[]) {
      const { doc } = editor.state
      const diagnostics = all.map(({ line, column, length, says, help, severity }) => {
        const row = doc.line(Math.min(Math.max(line, 1), doc.lines))
        const from = Math.min(row.from + column - 1, row.to)
        const to = Math.min(from + length, row.to)
        return {
          from,
          to,
          message: help ? `${says} ${help}` : says,
          severity: severity === FindingSeverity.warning ? ('warning' as const) : ('error' as const),
        }
      })
      editor.dispatch(setDiagnostics(editor.state, diagnostics))
    },
  }
}

/** Shows two documents side by side, with differences marked and equal parts folded. */
export function compare(parent: HTMLElement, a: Options, b: Options) {
  const still = [EditorState.readOnly.of(true), EditorView.editable.of(false)]
  const merge = new MergeView({
    parent,
    a: { doc: a.text, extensions: [basics(a.form, a.label, false), still] },
    b: { doc: b.text, extensions: [basics(b.form, b.label, false), still] },
    collapseUnchanged: { margin: 3, minSize: 6 },
  })
  return { destroy: () => merge.destroy() }
}

/** Returns the path of a position in a JSON document, e.g. `rows[1].item`, as far as the document has been parsed. */
export function pathAt(state: EditorState, at: number): string {
  const path: string[] = []
  for (let node = syntaxTree(state).resolveInner(at, -1); node.parent; node = node.parent) {
    const { parent } = node
    if (node.name === 'Property') {
      const name = node.firstChild
      if (!name) continue
      const text = state.sliceDoc(name.from + 1, name.to - 1)
      path.unshift(/^[A-Za-z_]\w*$/.test(text) ? `.${text}` : `["${text}"]`)
    } else if (parent.name === 'Array' && node.name !== '[' && node.name !== ']') {
      let index = 0
      for (let before = node.prevSibling; before; before = before.prevSibling) if (!'[,⚠'.includes(before.name)) index++
      path.unshift(`[${index}]`)
    }
  }
  return path.join('').replace(/^\./, '')
}
