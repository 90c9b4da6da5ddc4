// What was drafted on other pages, put into the files of a draft.
import type { PolicyFile } from '../../api/draft'
import { drafts, offs } from '../../components/Draft'

/** Takes what waits in the tab under a key; it is taken once. */
function taken(key: string): string[] {
  const kept = JSON.parse(sessionStorage.getItem(key) ?? '[]') as string[]
  sessionStorage.removeItem(key)
  return kept
}

/** Files, and where in them the last of what was drafted stands: a file, and a line from 1. */
interface Drafted {
  files: PolicyFile[]
  into: string | undefined
  line: number
}

/** Rules go to the end of the file with the most rules; statements at a place are switched off there. */
export function withDrafts(files: PolicyFile[]): Drafted {
  let into: string | undefined
  let at = 0
  let out = files
  for (const place of taken(offs)) {
    const [file, line] = place.split(':')
    out = out.map((f) => (f.name === file ? { ...f, text: off(f.text, Number(line)) } : f))
    into = file
    at = Number(line)
  }
  const wanted = taken(drafts)
  if (wanted.length > 0) {
    const rules = (f: PolicyFile) => (f.text.match(/^(?:off )?(?:allow|block)\b/gm) ?? []).length
    into = [...out].filter((f) => f.name.endsWith('.fence')).sort((a, b) => rules(b) - rules(a))[0]?.name
    out = out.map((f) => (f.name === into ? { ...f, text: `${f.text.replace(/\n?$/, '\n')}${wanted.join('\n')}\n` } : f))
  }
  if (wanted.length > 0) at = (out.find((f) => f.name === into)?.text.split('\n').length ?? 1) - 1
  return { files: out, into, line: at }
}

/** A text with the statement that begins on a line switched off; the line is counted from 1. */
const off = (text: string, line: number) =>
  text
    .split('\n')
    .map((l, i) => (i + 1 === line ? l.replace(/^(\s*)(?=allow\b|block\b)/, '$1off ') : l))
    .join('\n')
