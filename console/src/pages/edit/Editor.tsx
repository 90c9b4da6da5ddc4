// The editor of one file: it colours, completes, explains and marks as the language server does in others.
import { autocompletion, type CompletionContext } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands'
import { syntaxHighlighting } from '@codemirror/language'
import { setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { highlightSelectionMatches, searchKeymap } from '@codemirror/search'
import { EditorState } from '@codemirror/state'
import { EditorView, highlightActiveLine, hoverTooltip, keymap, lineNumbers } from '@codemirror/view'
import { useEffect, useRef, type RefObject } from 'react'

import type { Schemas } from '../../api/client'
import { assist, type Place, type PolicyFile } from '../../api/draft'
import { colours, language, look, type Words } from './language'

interface Does {
  files: PolicyFile[]
  name: string
  words: Words
  problems: Schemas['Problem'][]
  line: number
  /** Changes whenever somebody wants to go to that line. */
  jump: string
  /** Says where the cursor is, for whoever asks. */
  placeRef: RefObject<(() => Place) | undefined>
  change: (text: string) => void
}

/** How many letters a text has: the service counts letters, the browser halves of some. */
const letters = (text: string) => Array.from(text).length

/** What to change for one text to become another: the cursor stays where nothing changed. */
function difference(was: string, now: string) {
  if (was === now) return []
  let from = 0
  while (from < was.length && was[from] === now[from]) from++
  let same = 0 // letters at the end
  while (same < Math.min(was.length, now.length) - from && was[was.length - 1 - same] === now[now.length - 1 - same]) same++
  return [{ from, to: was.length - same, insert: now.slice(from, now.length - same) }]
}

export function Editor({ files, name, words, problems, line, jump, placeRef, change }: Does) {
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
      return { files: now.current.files.map((f) => (f.name === name ? { name, text } : f)), file: name, line: number, column: letters(text.slice(from, pos)) + 1 }
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
    placeRef.current = () => at(editor.state, editor.state.selection.main.head)
    return () => {
      editor.destroy()
      view.current = null
      placeRef.current = undefined
    }
  }, [name, words, placeRef])

  // A text that comes from elsewhere: a draft that was added, a name that was changed, a file that was laid out.
  const text = files.find((f) => f.name === name)?.text ?? ''
  useEffect(() => {
    const editor = view.current
    if (editor) editor.dispatch({ changes: difference(editor.state.doc.toString(), text) })
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
  }, [line, jump, name])

  return <div ref={box} className="h-full min-h-0 overflow-hidden" />
}
