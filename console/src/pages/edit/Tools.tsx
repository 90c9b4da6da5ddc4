// What the editor can do with the name or the file at the cursor, each with its key.
import { useRef, useState, type KeyboardEvent, type ReactNode, type RefObject } from 'react'

import { messageOf } from '../../api/client'
import { assist, renamed, type Place, type PolicyFile } from '../../api/draft'
import { counted } from '../../components/basics'
import { Button } from '../../components/Button'
import { Deed, Field } from '../../components/Deed'

interface Does {
  placeRef: RefObject<(() => Place) | undefined>
  open: (file: string, line: number) => void
  change: (files: PolicyFile[]) => void
  children: ReactNode
}

/** Each tool's key, as the browser names it; with Shift and Alt for the last. */
const keys = { rename: 'F2', declaration: 'F12', tidy: 'Shift+Alt+F' }

const pressed = (event: KeyboardEvent) => (event.shiftKey && event.altKey && event.code === 'KeyF' ? keys.tidy : event.key)

export function Tools({ placeRef, open, change, children }: Does) {
  const bar = useRef<HTMLDivElement>(null)
  const [name, setName] = useState('')
  const [said, say] = useState('')
  const toDeclaration = async () => {
    const at = placeRef.current?.()
    if (!at) return
    const { defined } = await assist(at)
    if (defined) open(defined.file, defined.line)
    say(defined ? `${defined.file}, line ${String(defined.line)}` : 'The cursor is on no name that is declared here.')
  }
  const tidy = async () => {
    const at = placeRef.current?.()
    if (!at) return
    const { tidied } = await assist({ ...at, tidy: true })
    const was = at.files?.find((f) => f.name === at.file)?.text
    say(tidied === undefined ? `${at.file} has errors. Correct them first.` : tidied === was ? `${at.file} is tidy already.` : `${at.file} is tidy now.`)
    if (tidied !== undefined) change((at.files ?? []).map((f) => (f.name === at.file ? { ...f, text: tidied } : f)))
  }
  const rename = async () => {
    const at = placeRef.current?.()
    if (!at) return
    const told = await assist({ ...at, name: name.trim() })
    if (told.refused !== undefined) throw new Error(`The name was not changed: ${told.refused}.`)
    change(renamed(at.files ?? [], told.renamed ?? [], name.trim()))
    say(`Renamed in ${counted((told.renamed ?? []).length, 'place')}.`)
  }
  const attempt = (deed: () => Promise<void>) => {
    deed().catch((error: unknown) => {
      say(messageOf(error))
    })
  }
  return (
    <div
      className="flex h-[60vh] min-h-0 flex-col overflow-hidden rounded-board border border-line bg-board lg:col-start-1 lg:row-span-2 lg:row-start-1 lg:h-full 2xl:col-start-2 2xl:row-span-1"
      onKeyDown={(event) => {
        const button = bar.current?.querySelector<HTMLButtonElement>(`[aria-keyshortcuts="${pressed(event)}"]`)
        if (!button) return
        event.preventDefault()
        button.click()
      }}
    >
      <div ref={bar} role="toolbar" aria-label="Tools of the editor" className="flex flex-wrap items-center gap-2 border-b border-line px-3 py-1.5">
        <Button small title={`Go to where the name at the cursor is declared (${keys.declaration})`} aria-keyshortcuts={keys.declaration} onClick={() => { attempt(toDeclaration) }}>
          Go to declaration
        </Button>
        <Deed
          name="Rename"
          small
          shortcut={keys.rename}
          consequence={<p>The name at the cursor is changed wherever this policy uses it. Nothing is published by that.</p>}
          more={<Field id="new-name" label="New name" value={name} onChange={setName} />}
          run={rename}
        />
        <Button small title={`Indent and align this file (${keys.tidy})`} aria-keyshortcuts={keys.tidy} onClick={() => { attempt(tidy) }}>
          Tidy
        </Button>
        <span role="status" className="text-sm text-faint">
          {said}
        </span>
      </div>
      <div className="min-h-0 flex-1">{children}</div>
    </div>
  )
}
