// Reach: who comes to whom, as a matrix of roles and networks; two revisions laid over each other.
import { useSearchParams } from 'react-router'

import { useRevisions } from '../api/policy'
import { useReach } from '../api/reach'
import { Empty, Failure, Heading, Loading, Mono, counted } from '../components/basics'
import { AsCommand } from '../components/Button'
import { CellView } from './reach/CellView'
import { Matrix, Shades } from './reach/Matrix'

export default function ReachPage() {
  const [params, setParams] = useSearchParams()
  const revision = Number(params.get('revision') ?? 0)
  const before = params.get('before') === null ? undefined : Number(params.get('before'))
  const now = useReach(revision)
  const was = useReach(before)
  const revisions = useRevisions().data?.revisions ?? []
  const cell = params.get('cell')
  const change = (key: string, value: string | undefined) => {
    const next = new URLSearchParams(params)
    if (value === undefined || value === '') next.delete(key)
    else next.set(key, value)
    setParams(next, { replace: true })
  }
  const choose = (key: string, label: string, none: string) => (
    <label className="flex items-center gap-1.5 text-sm text-faint">
      {label}
      <select
        value={params.get(key) ?? ''}
        onChange={(event) => {
          change(key, event.target.value)
        }}
        className="rounded-plank border border-line bg-board px-2 py-1 text-ink"
      >
        <option value="">{none}</option>
        {revisions.map((r) => (
          <option key={r.number} value={String(r.number)}>
            revision {r.number}
          </option>
        ))}
      </select>
    </label>
  )
  if (now.error) return <Failure error={now.error} />
  if (was.error) return <Failure error={was.error} />
  if (now.isPending || (before !== undefined && was.isPending)) return <Loading what="the reach" />
  const [from, to] = cell?.split(' ') ?? []
  return (
    <>
      <Heading title="Reach">
        {choose('revision', 'of', 'what is published')}
        {choose('before', 'laid over', 'nothing')}
        <span className="ml-auto">
          <AsCommand command={`yfence reach${revision > 0 ? ` --revision ${String(revision)}` : ''}`} />
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
