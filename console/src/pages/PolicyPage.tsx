import { PencilLine } from 'lucide-react'
import { useEffect, useRef } from 'react'
import { Link, useSearchParams } from 'react-router'

import { useLanguage, useRevision, useRevisions, type Revision } from '../api/policy'
import { useMay } from '../api/session'
import { Ago, Empty, Failure, Heading, Loading, Mono, Wide } from '../components/basics'

export default function PolicyPage() {
  const [params, setParams] = useSearchParams()
  const revisions = useRevisions()
  const may = useMay('propose')
  const list = revisions.data?.revisions ?? []
  const asked = Number(params.get('revision'))
  const number = asked > 0 ? asked : list[0]?.number
  const revision = useRevision(number)
  if (revisions.isPending) return <Loading what="the policy" />
  if (revisions.error) return <Failure error={revisions.error} />
  if (list.length === 0) {
    return (
      <Empty title="Nothing is published yet">
        Publish a folder of .fence files: <Mono>yfence publish --policy DIR -m "first policy"</Mono>
      </Empty>
    )
  }
  return (
    <div className="grid gap-6 lg:grid-cols-[18rem_1fr]">
      <aside className="self-start lg:sticky lg:top-6">
        <Heading title="Policy">
          {may && (
            <Link to="/policy/edit" className="ml-auto inline-flex items-center gap-1.5 rounded-plank bg-fence px-3 py-1.5 text-sm font-semibold text-fence-ink">
              <PencilLine className="size-4" aria-hidden /> Write
            </Link>
          )}
        </Heading>
        <ol className="flex flex-col gap-1.5">
          {list.map((r) => (
            <li key={r.number}>
              <RevisionButton
                revision={r}
                total={revisions.data.total}
                chosen={r.number === number}
                onChoose={() => {
                  setParams({ revision: String(r.number) })
                }}
              />
            </li>
          ))}
        </ol>
      </aside>
      <section className="min-w-0" aria-label="The policy's files">
        {number !== undefined && number !== list[0]?.number && (
          <p className="mb-3 flex flex-wrap gap-x-4 rounded-board border border-care bg-care-wash px-4 py-2 text-care">
            Revision {number} is not the published one.
            <Link className="underline" to={`/policy/compare?from=${String(number)}&to=${String(list[0]?.number ?? 0)}`}>
              Compare it with revision {list[0]?.number}
            </Link>
            {may && (
              <Link className="underline" to={`/policy/edit?from=${String(number)}`}>
                Restore it as a draft
              </Link>
            )}
          </p>
        )}
        {revision.error && <Failure error={revision.error} />}
        {revision.isPending && <Loading what="the revision" />}
        {(revision.data?.files ?? []).map((f) => (
          <PolicyFile key={f.name} name={f.name} text={f.text} line={params.get('file') === f.name ? Number(params.get('line')) : 0} />
        ))}
      </section>
    </div>
  )
}

function RevisionButton({ revision: r, total, chosen, onChoose }: { revision: Revision; total: number; chosen: boolean; onChoose: () => void }) {
  return (
    <button
      type="button"
      aria-pressed={chosen}
      onClick={onChoose}
      className={`w-full rounded-board border p-3 text-left ${chosen ? 'border-fence bg-board' : 'border-line hover:bg-sunk'}`}
    >
      <span className="flex items-center gap-2 font-medium">
        Revision {r.number}
        {r.published && <span className="rounded-full bg-fence px-2 text-xs font-semibold text-fence-ink">published</span>}
      </span>
      <span className="block">{r.why}</span>
      {(r.published || r.hosts > 0) && (
        <span className={`block text-sm ${r.published && r.hosts < total ? 'text-care' : ''}`}>
          in force on {r.hosts} of {total} {total === 1 ? 'host' : 'hosts'}
        </span>
      )}
      <span className="block text-sm text-faint">
        {r.author}, <Ago time={r.published_at} />
      </span>
    </button>
  )
}

function PolicyFile({ name, text, line }: { name: string; text: string; line: number }) {
  const marked = useRef<HTMLLIElement>(null)
  const language = useLanguage()
  const words = new Map([...(language.data?.statements ?? []), ...(language.data?.modifiers ?? [])].map((k) => [k.word, k.means]))
  const statements = new Set((language.data?.statements ?? []).map((k) => k.word))
  useEffect(() => {
    marked.current?.scrollIntoView({ block: 'center' })
  }, [line])
  return (
    <div className="mb-4 overflow-hidden rounded-board border border-line bg-board">
      <h2 className="border-b border-line bg-sunk px-3 py-1.5 text-sm font-medium">{name}</h2>
      <Wide name={name}>
      <ol className="py-2 font-mono text-[13px] leading-6">
        {text.replace(/\n$/, '').split('\n').map((content, i) => (
          <li key={i} ref={i + 1 === line ? marked : undefined} className={`flex ${i + 1 === line ? 'bg-fence text-fence-ink' : ''}`}>
            <span className={`w-12 shrink-0 pr-4 text-right select-none ${i + 1 === line ? '' : 'text-faint'}`}>{i + 1}</span>
            <Line text={content} plain={i + 1 === line} words={words} statements={statements} />
          </li>
        ))}
      </ol>
      </Wide>
    </div>
  )
}

/**
 * A line of the language: what begins a statement is bold, modifiers are
 * coloured and say what they mean, comments and texts are faint.
 */
function Line({ text, plain, words, statements }: { text: string; plain: boolean; words: Map<string, string>; statements: Set<string> }) {
  // Texts and comments, words, and what is between them; a rule's name keeps its colon.
  const parts = text.match(/"(?:[^"\\]|\\.)*"|#.*$|[A-Za-z0-9@._:/*+-]+|[^A-Za-z0-9@._:/*+"#-]+|./g) ?? []
  const begins = parts[0] === 'off' ? 2 : 0 // what is off says so in front
  return (
    <span className="pr-4 whitespace-pre">
      {parts.map((part, i) => {
        if (i === begins && statements.has(part)) {
          return (
            <b key={i} className="font-semibold" title={words.get(part)}>
              {part}
            </b>
          )
        }
        if (part.startsWith('"') || part.startsWith('#')) {
          return (
            <span key={i} className={plain ? '' : 'text-faint'}>
              {part}
            </span>
          )
        }
        if (i !== begins && words.has(part) && !statements.has(part)) {
          return (
            <span key={i} className={plain ? 'underline' : 'text-care'} title={words.get(part)}>
              {part}
            </span>
          )
        }
        return <span key={i}>{part}</span>
      })}
    </span>
  )
}
