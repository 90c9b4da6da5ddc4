// Published rules beside live ones, in the order in which they are tried.
import { useLive, type Chain, type Finding, type Rule } from '../../api/hosts'
import { Empty, Failure, Loading, Mono, count } from '../../components/basics'

export function Rules({ host, at, findings }: { host: string; at: string; findings: Finding[] }) {
  const live = useLive(host, at)
  if (live.error) return <Failure error={live.error} />
  if (live.isPending) return <Loading what="the rules" />
  const guilty = new Set(findings.map((f) => f.live.at))
  return (
    <>
      <p className="mb-3 text-sm text-faint">
        Highlighted rules have no equivalent on the other side. Two rules are equal when they do the same, however they are written.
      </p>
      <div className="grid gap-4 lg:grid-cols-2">
        <Column title="Published" chains={live.data.published ?? []} mark="missing on the host" guilty={new Set()} />
        {live.data.unread ? (
          <Empty title="The host’s report could not be read">{live.data.unread}</Empty>
        ) : (
          <Column title="Live" chains={live.data.chains ?? []} mark="only on the host" guilty={guilty} />
        )}
      </div>
    </>
  )
}

function Column({ title, chains, mark, guilty }: { title: string; chains: Chain[]; mark: string; guilty: Set<string> }) {
  return (
    <section aria-label={`${title} rules`} className="min-w-0">
      <h2 className="mb-2 font-semibold">{title}</h2>
      {chains.length === 0 && <Empty title="No rules">No filter was in force when the host last reported.</Empty>}
      {chains.map((c) => (
        <div key={c.place} className="mb-3 overflow-hidden rounded-board border border-line bg-board">
          <p className="border-b border-line bg-sunk px-3 py-1.5 text-sm">
            <span className="font-medium">{c.place}</span>
            {c.hook && (
              <span className="text-faint">
                {' '}
                on {c.hook}, policy {c.policy}
              </span>
            )}
          </p>
          <ol>
            {(c.rules ?? []).map((r, i) => (
              <RuleLine key={i} rule={r} mark={mark} guilty={guilty.has(r.at ?? '')} />
            ))}
          </ol>
          {(c.rules ?? []).length === 0 && <p className="px-3 py-2 text-sm text-faint">no rules</p>}
        </div>
      ))}
    </section>
  )
}

function RuleLine({ rule: r, mark, guilty }: { rule: Rule; mark: string; guilty: boolean }) {
  const alone = !r.twin
  return (
    <li className={`border-b border-line px-3 py-1.5 last:border-0 ${alone ? (guilty ? 'bg-bad-wash' : 'bg-care-wash') : ''}`}>
      <p className="break-words">
        <Mono>{r.text}</Mono>
      </p>
      <p className="flex flex-wrap gap-x-3 text-sm text-faint">
        {r.by && <span>{r.by}</span>}
        {r.packets !== undefined && <span title={`${count(r.bytes ?? 0)} bytes`}>{count(r.packets)} packets</span>}
        {alone && <span className={`font-medium ${guilty ? 'text-bad' : 'text-care'}`}>{mark}</span>}
      </p>
    </li>
  )
}
