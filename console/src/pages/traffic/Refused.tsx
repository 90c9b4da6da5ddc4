// What hosts refuse: by whom, how often, since when, and the statement that would admit it.
import { Radar } from 'lucide-react'

import { useRefused, type Refusal } from '../../api/traffic'
import { Ago, Empty, Failure, Loading, Mono, count, counted } from '../../components/basics'
import { Place } from '../../components/Place'
import { Draft } from '../../components/Draft'

const instant = (seconds: number) => new Date(seconds * 1000).toISOString()

export function Refused({ since }: { since: number }) {
  const refused = useRefused(since)
  if (refused.isPending) return <Loading what="what was refused" />
  if (refused.error) return <Failure error={refused.error} />
  const list = refused.data.refused
  if (list.length === 0) {
    return <Empty title="Nothing was refused">{refused.data.telling === 0 ? 'No host tells what it refuses yet; those that attend do.' : `${counted(refused.data.telling, 'host')} would have told.`}</Empty>
  }
  return (
    <section aria-label="Refused" className="rounded-board border border-line bg-board">
      <ul className="divide-y divide-line">
        {list.map((r) => (
          <Line key={`${r.by} ${r.direction} ${r.from.name} ${r.to.name} ${r.service} ${r.manner ?? ''}`} refusal={r} />
        ))}
      </ul>
      <p className="border-t border-line px-4 py-2 text-sm text-faint">
        {counted(refused.data.telling, 'host')} told it{refused.data.more !== undefined && `; ${counted(refused.data.more, 'more kind')} not shown`}
        {refused.data.lost !== undefined && `; kernels dropped messages ${counted(refused.data.lost, 'time')}, so some packets are not counted`}
      </p>
    </section>
  )
}

function Line({ refusal: r }: { refusal: Refusal }) {
  return (
    <li className="grid gap-x-5 gap-y-1 px-4 py-2.5 lg:grid-cols-[6rem_minmax(0,1fr)_minmax(0,1fr)]">
      <p className="text-lg font-semibold tabular-nums" title={`from ${new Date(r.first * 1000).toLocaleString()} to ${new Date(r.last * 1000).toLocaleString()}`}>
        {count(r.times)}
        <span className="block text-sm font-normal text-faint">
          <Ago time={instant(r.last)} />
        </span>
      </p>
      <div>
        <p className="font-medium">
          {r.search && <Radar className="mr-1 inline size-4 text-care" aria-label="a search for open ports" />}
          {r.from.name} → {r.to.name} : {r.service}
        </p>
        <p className="text-sm text-faint">
          by <Mono>{r.by}</Mono>
          {r.manner !== undefined && ` (${r.manner})`} on {r.hosts_of === 1 ? r.hosts[0] : counted(r.hosts_of, 'host')}; from {r.senders.map((s) => s.address.replace(/\/(32|128)$/, '')).join(', ')}
          {r.senders_of > r.senders.length && ` and ${counted(r.senders_of - r.senders.length, 'more', 'more')}`}
        </p>
        <Place at={r.place} />
      </div>
      <div>
        {r.passes && <p className="text-good">The policy that is published admits it: it is not settled there yet.</p>}
        {r.rule !== undefined && (
          <>
            <Draft rule={r.rule} />
            {r.opens !== undefined && <p className="text-sm text-care">{r.opens}</p>}
          </>
        )}
      </div>
    </li>
  )
}
