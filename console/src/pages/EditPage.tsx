// The policy as one writes it: files beside the text, and beside both, always, what the draft newly admits and refuses.
import { useEffect, useMemo, useRef, useState } from 'react'
import { useLocation, useSearchParams } from 'react-router'

import { keepDraft, keptDraft, useMeaning, type Draft, type Place, type PolicyFile } from '../api/draft'
import { Problem } from '../api/client'
import { useLanguage, useRevision, useRevisions } from '../api/policy'
import { useProposal } from '../api/proposals'
import { Failure, Heading, Loading } from '../components/basics'
import { withDrafts } from './edit/drafted'
import { Editor } from './edit/Editor'
import { Files } from './edit/Files'
import { Meaning } from './edit/Meaning'
import type { Words } from './edit/language'
import { Submit } from './edit/Submit'
import { Tools } from './edit/Tools'

/** How long nothing is typed before the draft is weighed, in milliseconds. */
const pause = 600

export default function EditPage() {
  const revisions = useRevisions()
  const newest = revisions.data?.revisions?.[0]?.number ?? 0
  const revision = useRevision(newest === 0 ? undefined : newest)
  const from = Number(useSearchParams()[0].get('from') ?? 0)
  const earlier = useRevision(from > 0 ? from : undefined)
  const again = Number(useSearchParams()[0].get('proposal') ?? 0)
  const proposal = useProposal(again > 0 ? again : undefined)
  const language = useLanguage()
  const failed = revisions.error ?? revision.error ?? earlier.error ?? proposal.error ?? language.error
  if (failed) return <Failure error={failed} />
  if (!revisions.data || !language.data || (newest > 0 && !revision.data) || (from > 0 && !earlier.data) || (again > 0 && !proposal.data)) return <Loading what="the policy" />
  return (
    <Writing
      newest={newest}
      published={revision.data?.files ?? []}
      earlier={earlier.data?.files ?? proposal.data?.files ?? undefined}
      words={{ statements: language.data.statements.map((k) => k.word), modifiers: language.data.modifiers.map((k) => k.word) }}
    />
  )
}

function Writing({ newest, published, earlier, words: given }: { newest: number; published: PolicyFile[]; earlier: PolicyFile[] | undefined; words: Words }) {
  const [params, setParams] = useSearchParams()
  const [words] = useState(given)
  const jump = useLocation().key // another each time, so that one can go to the same line again
  const placeRef = useRef<() => Place>(undefined)
  const [begun] = useState(() => {
    const from = earlier ? { base: newest, files: earlier } : (keptDraft() ?? { base: newest, files: published })
    const { files, ...at } = withDrafts(from.files)
    return { draft: { base: from.base, files }, ...at }
  })
  const [draft, setDraft] = useState<Draft>(begun.draft)
  const fence = draft.files.filter((f) => f.name.endsWith('.fence'))
  const name = params.get('file') ?? begun.into ?? fence[0]?.name ?? ''
  const line = Number(params.get('line') ?? (params.has('file') ? 0 : begun.line))
  const changed = useMemo(() => draft.files.some((f) => published.find((p) => p.name === f.name)?.text !== f.text) || draft.files.length !== published.length, [draft, published])
  const [weighed, setWeighed] = useState<PolicyFile[]>()
  useEffect(() => {
    keepDraft(changed ? draft : undefined)
    const timer = setTimeout(() => {
      setWeighed(changed ? draft.files : undefined)
    }, pause)
    return () => {
      clearTimeout(timer)
    }
  }, [draft, changed])
  // An earlier revision, or a proposal that was declined, is taken over once: what is written afterwards must not be lost when the page is loaded again.
  useEffect(() => {
    if (params.has('from') || params.has('proposal')) setParams({}, { replace: true })
  }, [params, setParams])
  const meaning = useMeaning(weighed)
  const problems = useMemo(() => (meaning.error instanceof Problem ? meaning.error.problems : []), [meaning.error])
  const open = (file: string, at?: number) => {
    setParams(at === undefined ? { file } : { file, line: String(at) }, { replace: true })
  }
  return (
    <>
      <Heading title="Policy, a draft">
        <span className="text-sm text-faint">{changed ? `based on revision ${String(draft.base)}, saved in this tab` : 'no changes yet'}</span>
        <Submit
          draft={draft}
          changed={changed}
          sound={meaning.error === null}
          discard={() => {
            setDraft({ base: newest, files: published })
          }}
        />
      </Heading>
      {changed && draft.base !== newest && (
        <p role="status" className="mb-3 rounded-board border border-care bg-care-wash px-4 py-2 text-care">
          Revision {newest} was published after you started. You can still propose this draft. To publish it, discard the changes and start from revision {newest}.
        </p>
      )}
      <div className="grid gap-4 lg:h-[calc(100vh-9rem)] lg:grid-cols-[minmax(0,1fr)_20rem] lg:grid-rows-[auto_minmax(0,1fr)] 2xl:grid-cols-[12rem_minmax(0,1fr)_24rem] 2xl:grid-rows-1">
        <Files
          draft={draft}
          published={published}
          name={name}
          problems={problems}
          open={open}
          add={(file) => {
            setDraft({ ...draft, files: [...draft.files, { name: file, text: '' }] })
            open(file)
          }}
        />
        <Tools
          placeRef={placeRef}
          open={open}
          change={(files) => {
            setDraft((d) => ({ ...d, files }))
          }}
        >
          <Editor
            files={draft.files}
            name={name}
            words={words}
            problems={problems}
            line={line}
            jump={jump}
            placeRef={placeRef}
            change={(text) => {
              setDraft((d) => ({ ...d, files: d.files.map((f) => (f.name === name ? { ...f, text } : f)) }))
            }}
          />
        </Tools>
        <Meaning changed={changed} meaning={meaning} problems={problems} open={open} />
      </div>
    </>
  )
}
