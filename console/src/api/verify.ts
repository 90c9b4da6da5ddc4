// The record, verified by the reader's own browser: the tree (RFC 6962) is worked out anew over every
// entry, and its newest head's signature (Ed25519, a signed note) is checked.
import { ed25519 } from '@noble/curves/ed25519.js'
import { sha256 } from '@noble/hashes/sha2.js'

import { client, open, type Schemas } from './client'

/** A head that this browser verified before. */
interface Remembered {
  origin: string
  size: number
  root: string
}

const key = 'yfence-record-verified'

export interface Verified {
  origin: string
  size: number
  /** How many entries an earlier verification in this browser covered; they are the beginning of what there is now. */
  before: number
}

const base64 = (text: string) => Uint8Array.from(atob(text), (c) => c.charCodeAt(0))
const text64 = (bytes: Uint8Array) => btoa(String.fromCharCode(...bytes))
const utf8 = new TextEncoder()

/** The hash of two hashes, one beside the other. */
const above = (left: Uint8Array, right: Uint8Array) => sha256(Uint8Array.of(1, ...left, ...right))

/** A tree that grows by one entry at a time: the roots of its whole parts, the largest first. */
class Tree {
  private parts: { size: number; root: Uint8Array }[] = []

  add(body: string) {
    const leaf = utf8.encode(body)
    const marked = new Uint8Array(leaf.length + 1)
    marked.set(leaf, 1)
    let part = { size: 1, root: sha256(marked) }
    for (let last = this.parts.at(-1); last?.size === part.size; last = this.parts.at(-1)) {
      this.parts.pop()
      part = { size: 2 * part.size, root: above(last.root, part.root) }
    }
    this.parts.push(part)
  }

  root(): string {
    return text64(this.parts.map((p) => p.root).reduceRight((right, left) => above(left, right)))
  }
}

/** The text of a signed head: the record's name, how many entries, the root over them. */
function headOf(signed: string): Remembered {
  const [origin = '', size = '', root = ''] = signed.split('\n')
  return { origin, size: Number(size), root }
}

/** Whether a head was signed with a public key, as signed notes write both. */
function signedBy(signed: string, publicKey: string): boolean {
  const at = signed.indexOf('\n\n')
  const [name = '', , ...rest] = publicKey.split('+')
  const known = base64(rest.join('+')).slice(1) // the first byte says which algorithm
  return signed
    .slice(at + 2)
    .split('\n')
    .some((line) => {
      const [dash, signer, signature = ''] = line.split(' ')
      return dash === '—' && signer === name && ed25519.verify(base64(signature).slice(4), utf8.encode(signed.slice(0, at + 1)), known)
    })
}

const wrong = (number: number, what: string) => new Error(`Entry ${String(number)} ${what}. To find out more: yfence record verify`)

/** Reads the whole record; says after each part how many entries were read. Throws what is wrong first. */
export async function verifyRecord(read: (entries: number) => void): Promise<Verified> {
  const tree = new Tree()
  const kept = localStorage.getItem(key)
  const before = kept === null ? undefined : (JSON.parse(kept) as Remembered)
  let size = 0
  for (;;) {
    const part: Schemas['RecordRows'] = open(await client.GET('/api/v1/record/rows', { params: { query: { after: size } } }))
    for (const row of part.rows) {
      size++
      if (row.number !== size) throw wrong(size, 'is missing')
      tree.add(row.entry)
      const root = tree.root()
      if (headOf(row.head).root !== root) throw wrong(size, 'was changed: it is not what was signed when it was recorded')
      if (before?.size === size && before.origin === headOf(part.head).origin && before.root !== root) {
        throw wrong(size, 'or one before it was changed since this browser last verified the record')
      }
    }
    read(size)
    if (part.more) continue
    const head = headOf(part.head)
    if (part.size > size) throw wrong(size + 1, 'is missing at the end')
    if (size === 0) return { origin: '', size, before: 0 }
    const newest = part.rows.at(-1)?.head ?? part.head
    if (!signedBy(newest, part.key) || !part.key.startsWith(`${head.origin}+`)) throw wrong(size, 'has a head that was not signed with the key of the record')
    if (before && before.origin !== head.origin) throw new Error(`This is another record than the one that this browser verified before: it was ${before.origin}, and now it is ${head.origin}.`)
    if (before && before.size > size) throw wrong(size + 1, 'is missing: this browser verified more entries before')
    localStorage.setItem(key, JSON.stringify({ origin: head.origin, size, root: tree.root() }))
    return { origin: head.origin, size, before: before?.size ?? 0 }
  }
}

/** The record as `yfence record verify --export` reads it: a checkpoint, and then an entry a line. */
export async function exportedRecord(): Promise<string> {
  const lines: string[] = []
  for (let after = 0; ; ) {
    const { rows, more, ...checkpoint } = open(await client.GET('/api/v1/record/rows', { params: { query: { after } } }))
    lines.push(...rows.map((row) => JSON.stringify(row)))
    after += rows.length
    if (!more) return [JSON.stringify(checkpoint), ...lines, ''].join('\n')
  }
}
