// Two revisions compared: what the second newly admits and refuses.
import { useSearchParams } from 'react-router'

import { useComparison, useRevisions } from '../api/policy'
import { Board, Failure, Heading, Loading, counted } from '../components/basics'
import { AsCommand } from '../components/Button'
import { Changes, CutsList } from '../components/Changes'

export default function ComparePage() {
  const revisions = useRevisions()
  const [params, setParams] = useSearchParams()
  const all = (revisions.data?.revisions ?? []).map((r) => r.number)
  const to = Number(params.get('to') ?? all[0] ?? 0)
  const from = Number(params.get('from') ?? all[1] ?? all[0] ?? 0)
  const found = useComparison(from, to)
  if (revisions.error) return <Failure error={revisions.error} />
  const choose = (key: 'from' | 'to', label: string, value: number) => (
    <label className="flex items-center gap-1.5 text-sm text-faint">
      {label}
      <select
        value={String(value)}
        onChange={(event) => {
          setParams({ from: String(from), to: String(to), [key]: event.target.value }, { replace: true })
        }}
        className="rounded-plank border border-line bg-board px-2 py-1 text-ink"
      >
        {all.map((n) => (
          <option key={n} value={String(n)}>
            revision {n}
          </option>
        ))}
      </select>
    </label>
  )
  return (
    <>
      <Heading title="Compare revisions">
        {choose('from', 'from', from)}
        {choose('to', 'to', to)}
        <span className="ml-auto">
          <AsCommand command={`yfence compare --from ${String(from)} --to ${String(to)}`} />
        </span>
      </Heading>
      {found.isPending && <Loading what="the comparison" />}
      {found.error && <Failure error={found.error} />}
      {found.data && (
        <div className="grid items-start gap-5 xl:grid-cols-[minmax(0,1fr)_24rem]">
          <Board title="What changed" beside={<span className="text-sm text-faint">on {counted(found.data.hosts.length, 'host')}, with the fleet of now</span>}>
            <Changes changes={found.data} />
          </Board>
          {found.data.cuts && (
            <Board title="Seen connections that are newly refused">
              <CutsList cuts={found.data.cuts} />
            </Board>
          )}
        </div>
      )}
    </>
  )
}
