// The past of a host on a time line: each change of what was in force, and who asked the host for what.
import { CircleDot, FileDiff } from 'lucide-react'
import { Link } from 'react-router'

import { usePast, type PastChange } from '../../api/hosts'
import { deeds } from '../../api/states.gen'
import { useRecord, type Entry } from '../../api/record'
import { Ago, Empty, Failure, Loading, Mono, counted } from '../../components/basics'
import { AsCommand, Button } from '../../components/Button'

type Moment = { at: string; change: PastChange } | { at: string; entry: Entry }

export function Past({ host }: { host: string }) {
  const past = usePast(host)
  const record = useRecord({ by: '', deed: '', on: host })
  if (past.error) return <Failure error={past.error} />
  if (past.isPending || record.isPending) return <Loading what="the past" />
  const changes = past.data.pages.flatMap((p) => p.changes)
  // What is older than the last change shown is shown with the changes before it.
  const since = past.hasNextPage ? (changes.at(-1)?.began ?? '') : ''
  const moments: Moment[] = [
    ...changes.map((change) => ({ at: change.began, change })),
    ...(record.data?.pages ?? []).flatMap((p) => p.entries).map((entry) => ({ at: entry.at, entry })),
  ]
    .filter((m) => since === '' || new Date(m.at) >= new Date(since))
    .sort((a, b) => new Date(b.at).getTime() - new Date(a.at).getTime())
  if (moments.length === 0) return <Empty title="Nothing is known of the past">The host has reported nothing that is kept.</Empty>
  return (
    <section aria-label="Past">
      <p className="mb-3 flex flex-wrap gap-2">
        <AsCommand command={`yfence past ${host}`} />
        <AsCommand command={`yfence record --on ${host}`} />
      </p>
      <ol className="border-l-2 border-line">
        {moments.map((m) =>
          'change' in m ? <Changed key={`c${String(m.change.number)}`} change={m.change} newest={m.change === changes[0]} /> : <Did key={`e${String(m.entry.number)}`} entry={m.entry} />,
        )}
      </ol>
      {past.hasNextPage && (
        <Button
          className="mt-3"
          disabled={past.isFetchingNextPage}
          onClick={() => {
            void past.fetchNextPage()
            void record.fetchNextPage()
          }}
        >
          Show earlier ones
        </Button>
      )}
    </section>
  )
}

/** What a change was, as a sentence. */
function said(c: PastChange): string {
  if (c.first === true) return 'The first report that is kept'
  if (c.unread !== undefined) return `Something changed. It is not known what: ${c.unread}`
  if (c.added + c.removed === 0) return 'The listing changed, and no rule did'
  return `Rules changed: ${counted(c.added, 'line')} added, ${counted(c.removed, 'line')} removed`
}

/** What came and went. */
function Changed({ change: c, newest }: { change: PastChange; newest: boolean }) {
  const hidden = c.added + c.removed - (c.plus ?? []).length - (c.minus ?? []).length
  return (
    <li className="relative pb-4 pl-6">
      <FileDiff className="absolute top-1 -left-2 size-4 bg-paper text-ink" aria-hidden />
      <p className="font-medium">{said(c)}</p>
      <p className="text-sm text-faint">
        <Ago time={c.began} />
        {c.published !== undefined && <>, revision {c.published} was published</>}
        {newest ? '; in force now' : <>; in force until <Ago time={c.until} /></>}
        {!newest && (
          <>
            {' · '}
            <Link to={`?at=${encodeURIComponent(c.until)}`} className="underline underline-offset-2 hover:text-ink">
              see the host then
            </Link>
          </>
        )}
      </p>
      {c.added + c.removed > 0 && (
        <ul className="mt-1 overflow-x-auto rounded-plank bg-sunk px-3 py-1.5 text-sm" tabIndex={0} aria-label="Lines that came and went">
          {(c.plus ?? []).map((line, i) => (
            <li key={`+${String(i)}`} className="whitespace-pre text-good">
              <Mono>+ {line}</Mono>
            </li>
          ))}
          {(c.minus ?? []).map((line, i) => (
            <li key={`-${String(i)}`} className="whitespace-pre text-bad">
              <Mono>− {line}</Mono>
            </li>
          ))}
          {hidden > 0 && <li className="text-faint">and {counted(hidden, 'line')} more</li>}
        </ul>
      )}
    </li>
  )
}

/** What somebody did. */
function Did({ entry: e }: { entry: Entry }) {
  return (
    <li className="relative pb-4 pl-6">
      <CircleDot className="absolute top-1 -left-2 size-4 bg-paper text-faint" aria-hidden />
      <p>
        <span className="font-medium">{e.by.name}</span> {deeds[e.deed] ?? e.deed} {e.on}
        {e.why !== undefined && <span className="text-faint">: {e.why}</span>}
      </p>
      <p className="text-sm text-faint">
        <Ago time={e.at} />,{' '}
        <Link to={`/record?on=${encodeURIComponent(e.on)}#entry-${String(e.number)}`} className="underline-offset-2 hover:underline">
          entry {e.number}
        </Link>
      </p>
    </li>
  )
}
