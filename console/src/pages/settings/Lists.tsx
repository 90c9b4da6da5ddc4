// Lists of addresses that are read from elsewhere.
import { useMay } from '../../api/session'
import { useLists, useTakeList } from '../../api/settings'
import { Ago, Board, Failure, Loading, counted } from '../../components/basics'
import { AsCommand } from '../../components/Button'
import { Deed } from '../../components/Deed'

export function Lists() {
  return (
    <Board
      title="Lists"
      beside={
        <span className="ml-auto">
          <AsCommand command="yfence lists" />
        </span>
      }
    >
      <All />
    </Board>
  )
}

function All() {
  const lists = useLists()
  const take = useTakeList()
  const may = useMay('publish')
  if (lists.isPending) return <Loading what="the lists" />
  if (lists.error) return <Failure error={lists.error} />
  if (lists.data.lists.length === 0) return <p className="p-4 text-faint">No network of the policy is read from an address.</p>
  return (
    <ul className="divide-y divide-line">
      {lists.data.lists.map((l) => (
        <li key={l.network} className="flex flex-wrap items-center gap-x-3 gap-y-1 px-4 py-2">
          <span className="font-medium">{l.network}</span>
          <span className="text-sm text-faint">
            {counted(l.entries ?? 0, 'line')} from {l.url}, read <Ago time={l.read_at} />
          </span>
          {(l.waits ?? l.failing) !== undefined && <span className="w-full text-care">{l.waits ?? l.failing}; what was read before stays</span>}
          {may && (
            <span className="ml-auto">
              <Deed name="Read and take" consequence={<p>The list is read now and taken, however much of it changed. Hosts get it with the next settle.</p>} run={() => take.mutateAsync(l.network)} />
            </span>
          )}
        </li>
      ))}
    </ul>
  )
}
