// Connections that were seen, by who speaks with whom: as a drawing, and as a table.
import { useMemo } from 'react'
import { Link } from 'react-router'

import { useSeen, type Connection } from '../../api/traffic'
import { Empty, Failure, Loading, Mono, Wide, count, counted } from '../../components/basics'
import { Draft } from '../../components/Draft'

export function Seen({ since }: { since: number }) {
  const seen = useSeen(since)
  if (seen.isPending) return <Loading what="what was seen" />
  if (seen.error) return <Failure error={seen.error} />
  const list = seen.data.seen
  if (list.length === 0) {
    return <Empty title="No connection was seen">{seen.data.watching === 0 ? 'No host listens to which connections begin.' : `${counted(seen.data.watching, 'host')} listen.`}</Empty>
  }
  return (
    <>
      <Ropes connections={list} />
      <Wide name="Connections" className="mt-5 rounded-board border border-line bg-board">
        <table className="w-full text-left">
          <thead className="border-b border-line bg-sunk text-sm text-faint">
            <tr>
              {['From', 'To', 'Service', 'Connections', 'Admitted by'].map((h) => (
                <th key={h} scope="col" className="px-4 py-1.5 font-medium">
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {list.map((c) => (
              <tr key={`${c.direction} ${c.from.name} ${c.to.name} ${c.service}`} className="border-b border-line align-baseline last:border-0">
                <td className="px-4 py-1.5">{c.from.name}</td>
                <td className="px-4 py-1.5">{c.to.name}</td>
                <td className="px-4 py-1.5">
                  <Link to={`/ask?question=${encodeURIComponent(`${c.from.name} -> ${c.to.name} : ${c.service}`)}`} className="underline-offset-2 hover:underline">
                    {c.service}
                  </Link>
                </td>
                <td className="px-4 py-1.5 tabular-nums">{count(c.times)}</td>
                <td className="px-4 py-1.5">
                  {c.by !== undefined && <Mono>{c.by}</Mono>}
                  {c.rule !== undefined && <Draft rule={c.rule} />}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
    </>
  )
}

const line = 26
const most = 24 // ends on a side that are drawn: the busiest

/** Who speaks with whom: senders on the left, receivers on the right, a rope between them as thick as it is busy. */
function Ropes({ connections }: { connections: Connection[] }) {
  const { left, right, ropes } = useMemo(() => laid(connections), [connections])
  const height = Math.max(left.length, right.length) * line + 10
  const top = Math.max(1, ...ropes.map((r) => r.times))
  return (
    <figure className="rounded-board border border-line bg-board p-4">
      <Wide name="Who speaks with whom">
      <svg viewBox={`0 0 900 ${String(height)}`} className="mx-auto block w-full max-w-5xl min-w-[36rem]" role="img" aria-label="Who speaks with whom; the table below says the same">
        {ropes.map((r) => {
          const y1 = left.indexOf(r.from) * line + 18
          const y2 = right.indexOf(r.to) * line + 18
          return (
            <path key={`${r.from} ${r.to}`} d={`M 250 ${String(y1)} C 430 ${String(y1)}, 470 ${String(y2)}, 650 ${String(y2)}`} fill="none" stroke={r.stated ? 'var(--good)' : 'var(--bad)'} strokeDasharray={r.stated ? undefined : '6 4'} strokeOpacity={0.75} strokeWidth={1 + 7 * (Math.log1p(r.times) / Math.log1p(top))}>
              <title>{`${r.from} → ${r.to}: ${[...r.services].join(', ')}; ${count(r.times)}`}</title>
            </path>
          )
        })}
        {left.map((name, i) => (
          <text key={name} x={242} y={i * line + 22} textAnchor="end" fontSize={14} fill="var(--ink)">
            {name}
          </text>
        ))}
        {right.map((name, i) => (
          <text key={name} x={658} y={i * line + 22} fontSize={14} fill="var(--ink)">
            {name}
          </text>
        ))}
      </svg>
      </Wide>
      <figcaption className="mt-2 text-sm text-faint">Senders are on the left. Solid line: a rule of the policy admits these connections. Dashed line: no rule names them.</figcaption>
    </figure>
  )
}

interface Rope {
  from: string
  to: string
  times: number
  stated: boolean
  services: Set<string>
}

function laid(connections: Connection[]) {
  const ropes = new Map<string, Rope>()
  const busy = { from: new Map<string, number>(), to: new Map<string, number>() }
  for (const c of connections) {
    const key = `${c.from.name}\n${c.to.name}`
    const rope = ropes.get(key) ?? { from: c.from.name, to: c.to.name, times: 0, stated: true, services: new Set<string>() }
    rope.times += c.times
    rope.stated &&= c.stated
    rope.services.add(c.service)
    ropes.set(key, rope)
    busy.from.set(c.from.name, (busy.from.get(c.from.name) ?? 0) + c.times)
    busy.to.set(c.to.name, (busy.to.get(c.to.name) ?? 0) + c.times)
  }
  const first = (of: Map<string, number>) =>
    [...of]
      .sort((a, b) => b[1] - a[1])
      .slice(0, most)
      .map(([name]) => name)
  const left = first(busy.from)
  const right = first(busy.to)
  return { left, right, ropes: [...ropes.values()].filter((r) => left.includes(r.from) && right.includes(r.to)) }
}
