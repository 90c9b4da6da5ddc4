// The editor of one file: it colours, completes, explains and marks as the language server does in others.
import { autocompletion, type CompletionContext } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands'
import { StreamLanguage, syntaxHighlighting, HighlightStyle } from '@codemirror/language'
import { setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { highlightSelectionMatches, searchKeymap } from '@codemirror/search'
import { EditorState } from '@codemirror/state'
import { EditorView, highlightActiveLine, hoverTooltip, keymap, lineNumbers } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { useEffect, useRef } from 'react'

import type { Schemas } from '../../api/client'
import { assist, type PolicyFile } from '../../api/draft'

interface Does {
  files: PolicyFile[]
  name: string
  words: { statements: string[]; modifiers: string[] }
  problems: Schemas['Problem'][]
  line: number
  change: (text: string) => void
}

/** Colours of the language: what begins a statement, what modifies one, texts and comments. */
const colours = HighlightStyle.define([
  { tag: tags.keyword, fontWeight: '600' },
  { tag: tags.modifier, color: 'var(--care)' },
  { tag: tags.string, color: 'var(--good)' },
  { tag: tags.comment, color: 'var(--faint)', fontStyle: 'italic' },
  { tag: tags.definition(tags.name), color: 'var(--ink)', textDecoration: 'underline' },
])

const look = EditorView.theme({
  '&': { fontSize: '13px', backgroundColor: 'var(--board)', color: 'var(--ink)', height: '100%' },
  '.cm-scroller': { fontFamily: "'Source Code Pro', 'DejaVu Sans Mono', ui-monospace, monospace", lineHeight: '1.6' },
  '.cm-gutters': { backgroundColor: 'var(--sunk)', color: 'var(--faint)', border: 'none' },
  '.cm-activeLine': { backgroundColor: 'color-mix(in srgb, var(--fence) 12%, transparent)' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '.cm-tooltip': { backgroundColor: 'var(--board)', color: 'var(--ink)', border: '1px solid var(--line)' },
  '.cm-tooltip-autocomplete > ul > li[aria-selected]': { backgroundColor: 'var(--fence)', color: 'var(--fence-ink)' },
  '.cm-completionDetail': { color: 'var(--faint)', marginLeft: '1em' },
  '.cm-panels': { backgroundColor: 'var(--sunk)', color: 'var(--ink)' },
})

/** The language as far as colours go: its words come from the service. */
function language(words: Does['words']) {
  const statements = new Set([...words.statements, 'off'])
  const modifiers = new Set(words.modifiers)
  return StreamLanguage.define({
    name: 'fence',
    token(stream) {
      if (stream.eatSpace()) return null
      if (stream.match(/^#.*/)) return 'comment'
      if (stream.match(/^"(?:[^"\\]|\\.)*"?/)) return 'string'
      const begins = stream.string.slice(0, stream.pos).trim() === ''
      const word = stream.match(/^[A-Za-z0-9@._/*+-]+/) as RegExpMatchArray | null
      if (!word) {
        stream.next()
        return null
      }
      if (begins && statements.has(word[0])) return 'keyword'
      return modifiers.has(word[0]) ? 'modifier' : null
    },
    languageData: { commentTokens: { line: '#' } },
  })
}

export function Editor({ files, name, words, problems, line, change }: Does) {
  const box = useRef<HTMLDivElement>(null)
  const view = useRef<EditorView>(null)
  const now = useRef({ files, change })
  useEffect(() => {
    now.current = { files, change }
  }, [files, change])

  // The editor is made anew for another file; what is typed in it is its own.
  useEffect(() => {
    const parent = box.current
    if (!parent) return
    const at = (state: EditorState, pos: number) => {
      const { number, from } = state.doc.lineAt(pos)
      const text = state.doc.toString()
      return { files: now.current.files.map((f) => (f.name === name ? { name, text } : f)), file: name, line: number, column: pos - from + 1 }
    }
    const complete = async (context: CompletionContext) => {
      const word = context.matchBefore(/[A-Za-z0-9@._/-]*/)
      if (!word || (word.from === word.to && !context.explicit)) return null
      const told = await assist(at(context.state, context.pos)).catch(() => undefined)
      return told ? { from: word.from, options: told.complete.map((c) => ({ label: c.text, detail: c.note, type: c.kind })), validFor: /^[A-Za-z0-9@._/-]*$/ } : null
    }
    const hover = hoverTooltip(async (editor, pos) => {
      const told = await assist(at(editor.state, pos)).catch(() => undefined)
      if (told?.hover === undefined) return null
      const text = told.hover
      return {
        pos,
        create: () => {
          const dom = document.createElement('div')
          dom.className = 'max-w-md px-3 py-2 text-sm whitespace-pre-wrap'
          dom.textContent = text.replace(/[`*]/g, '')
          return { dom }
        },
      }
    })
    const editor = new EditorView({
      parent,
      state: EditorState.create({
        doc: now.current.files.find((f) => f.name === name)?.text ?? '',
        extensions: [
          EditorView.cspNonce.of(document.querySelector<HTMLMetaElement>('meta[name="style-nonce"]')?.content ?? ''),
          EditorView.contentAttributes.of({ 'aria-label': `Text of ${name}`, spellcheck: 'false', tabindex: '0' }),
          lineNumbers(),
          history(),
          highlightActiveLine(),
          highlightSelectionMatches(),
          language(words),
          syntaxHighlighting(colours),
          look,
          autocompletion({ override: [complete] }),
          hover,
          keymap.of([...defaultKeymap, ...historyKeymap, ...searchKeymap]),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) now.current.change(update.state.doc.toString())
          }),
        ],
      }),
    })
    view.current = editor
    return () => {
      editor.destroy()
      view.current = null
    }
  }, [name, words])

  // A text that comes from elsewhere: a draft that was added, a name that was changed, a file that was laid out.
  const text = files.find((f) => f.name === name)?.text ?? ''
  useEffect(() => {
    const editor = view.current
    if (editor && editor.state.doc.toString() !== text) editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: text } })
  }, [text])

  useEffect(() => {
    const editor = view.current
    if (!editor) return
    const marks: Diagnostic[] = problems
      .filter((p) => p.file === name && p.line > 0 && p.line <= editor.state.doc.lines)
      .map((p) => {
        const { from, to } = editor.state.doc.line(p.line)
        const begin = Math.min(from + Math.max(0, p.column - 1), to)
        return { from: begin, to: Math.max(begin, to), severity: p.severity === 'warning' ? 'warning' : 'error', message: p.hint === undefined ? p.message : `${p.message}\n${p.hint}` }
      })
    editor.dispatch(setDiagnostics(editor.state, marks))
  }, [problems, name])

  useEffect(() => {
    const editor = view.current
    if (!editor || line < 1 || line > editor.state.doc.lines) return
    const { from } = editor.state.doc.line(line)
    editor.dispatch({ selection: { anchor: from }, effects: EditorView.scrollIntoView(from, { y: 'center' }) })
    editor.focus()
  }, [line, name])

  return <div ref={box} className="h-full min-h-0 overflow-hidden" />
}
