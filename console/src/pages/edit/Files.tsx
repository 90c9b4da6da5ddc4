// The files of a draft: which were changed, and where something is wrong.
import { FilePlus2 } from 'lucide-react'
import { Fragment, useState } from 'react'

import type { Schemas } from '../../api/client'
import type { Draft, PolicyFile } from '../../api/draft'
import { Button } from '../../components/Button'

interface Does {
  draft: Draft
  published: PolicyFile[]
  name: string
  problems: Schemas['Problem'][]
  open: (file: string) => void
  add: (file: string) => void
}

/** The folder of a file, with its last stroke; '' where it is in none. */
const folderOf = (name: string) => name.slice(0, name.lastIndexOf('/') + 1)

export function Files({ draft, published, name, problems, open, add }: Does) {
  const [fresh, setFresh] = useState('')
  const named = fresh.endsWith('.fence') ? fresh : `${fresh}.fence`
  const inFolders = [...draft.files].sort((a, b) => folderOf(a.name).localeCompare(folderOf(b.name)))
  const taken = draft.files.some((f) => f.name === named)
  return (
    <nav aria-label="Files of the policy" className="flex max-h-48 flex-col gap-0.5 overflow-y-auto lg:col-start-2 lg:row-start-1 2xl:col-start-1 2xl:max-h-none">
      {inFolders.map((f, i) => {
        const folder = folderOf(f.name)
        const was = published.find((p) => p.name === f.name)
        const wrong = problems.some((p) => p.file === f.name)
        return (
          <Fragment key={f.name}>
          {folder !== folderOf(inFolders[i - 1]?.name ?? '') && <p className="mt-1 px-2 text-xs text-faint">{folder}</p>}
          <button
            type="button"
            title={f.name}
            aria-current={f.name === name}
            onClick={() => {
              open(f.name)
            }}
            className={`flex items-center gap-2 rounded-plank px-2 py-1 text-left text-sm break-all ${folder === '' ? '' : 'ml-3'} ${f.name === name ? 'bg-fence font-semibold text-fence-ink' : wrong ? 'text-bad hover:bg-sunk' : 'hover:bg-sunk'}`}
          >
            {f.name.slice(folder.length)}
            <span className="ml-auto text-xs whitespace-nowrap">{wrong ? 'wrong' : was === undefined ? 'new' : was.text === f.text ? '' : 'changed'}</span>
          </button>
          </Fragment>
        )
      })}
      <form
        className="mt-2 flex gap-1"
        onSubmit={(event) => {
          event.preventDefault()
          if (fresh !== '' && !taken) add(named)
          setFresh('')
        }}
      >
        <input
          aria-label="Name of a new file"
          placeholder="new.fence"
          value={fresh}
          onChange={(event) => {
            setFresh(event.target.value.trim())
          }}
          className="min-w-0 flex-1 rounded-plank border border-line bg-board px-2 py-0.5 text-sm"
        />
        <Button type="submit" small aria-label="Add the file" disabled={fresh === '' || taken}>
          <FilePlus2 className="size-3.5" aria-hidden />
        </Button>
      </form>
    </nav>
  )
}
