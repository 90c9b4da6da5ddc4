// Reach: who comes to whom, as a matrix of roles and networks; two revisions laid over each other.
import { useSearchParams } from 'react-router'

import { useReach } from '../api/reach'
import { Empty, Failure, Heading, Loading, Mono, counted } from '../components/basics'
import { AsCommand } from '../components/Button'
import { CellView } from './reach/CellView'
import { Choose } from './reach/Choose'
import { Matrix, Shades } from './reach/Matrix'

export default function ReachPage() {
  const [params, setParams] = useSearchParams()
  const of = params.get('of') ?? ''
  const before = params.get('before') ?? undefined
  const now = useReach(of)
  const was = useReach(before)
  const cell = params.get('cell')
  const change = (key: string, value: string | undefined) => {
    const next = new URLSearchParams(params)
    if (value === undefined || value === '') next.delete(key)
    else next.set(key, value)
    setParams(next, { replace: true })
  }
  if (now.error) return <Failure error={now.error} />
  if (was.error) return <Failure error={was.error} />
  if (now.isPending || (before !== undefined && was.isPending)) return <Loading what="the reach" />
  const [from, to] = cell?.split(' ') ?? []
  return (
    <>
      <Heading title="Reach">
        <Choose
          label="of"
          none="what is published"
          when={of}
          choose={(when) => {
            change('of', when)
          }}
        />
        <Choose
          label="laid over"
          none="nothing"
          when={before ?? ''}
          choose={(when) => {
            change('before', when)
          }}
        />
        <span className="ml-auto">
          <AsCommand command={`yfence reach${of === '' ? '' : /^\d+$/.test(of) ? ` --revision ${of}` : ` --at ${of}`}`} />
        </span>
      </Heading>
      {(now.data.unread ?? []).length > 0 && (
        <details className="mb-3 text-care">
          <summary className="cursor-pointer">{counted((now.data.unread ?? []).length, 'unknown')} could change this result</summary>
          <ul className="mt-1 list-inside list-disc">
            {(now.data.unread ?? []).map((u) => (
              <li key={u}>{u}</li>
            ))}
          </ul>
        </details>
      )}
      {now.data.ends.length === 1 && (
        <Empty title="There are no roles yet">
          Publish a policy whose roles have hosts: <Mono>yfence publish</Mono>
        </Empty>
      )}
      <div className="grid items-start gap-5 xl:grid-cols-[minmax(0,max-content)_minmax(18rem,1fr)]">
        <Matrix
          now={now.data}
          was={before === undefined ? undefined : was.data}
          chosen={cell ?? ''}
          choose={(chosen) => {
            change('cell', chosen)
          }}
        />
        {from !== undefined && to !== undefined && <CellView from={from} to={to} now={now.data} was={before === undefined ? undefined : was.data} />}
      </div>
      {now.data.more !== undefined && <p className="mt-2 text-sm text-faint">{counted(now.data.more, 'more end')} are left out: there are too many to draw.</p>}
      <Shades />
      <p className="mt-2 max-w-3xl text-sm text-faint">
        Rows are senders, columns are receivers. For a network and for everywhere, only addresses that are not hosts of the fleet count. Packets that every host's ground admits are not shown.
      </p>
    </>
  )
}
