// How the policy language looks in the editor: its colours, and the words that it knows.
import { StreamLanguage, HighlightStyle } from '@codemirror/language'
import { EditorView } from '@codemirror/view'
import { tags } from '@lezer/highlight'

/** The words of the language, as the service says them. */
export interface Words {
  statements: string[]
  modifiers: string[]
}

/** Colours of the language: what begins a statement, what modifies one, texts and comments. */
export const colours = HighlightStyle.define([
  { tag: tags.keyword, fontWeight: '600' },
  { tag: tags.modifier, color: 'var(--care)' },
  { tag: tags.string, color: 'var(--good)' },
  { tag: tags.comment, color: 'var(--faint)', fontStyle: 'italic' },
  { tag: tags.definition(tags.name), color: 'var(--ink)', textDecoration: 'underline' },
])

export const look = EditorView.theme({
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
export function language(words: Words) {
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
