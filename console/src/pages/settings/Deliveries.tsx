// What destinations of events have not taken.
import { useMay } from '../../api/session'
import { useSendAgain, useUndelivered } from '../../api/settings'
import { Ago, Board, Failure, Loading, counted } from '../../components/basics'
import { AsCommand } from '../../components/Button'
import { Deed } from '../../components/Deed'

export function Deliveries() {
  return (
    <Board
      title="Deliveries of events"
      beside={
        <span className="ml-auto">
          <AsCommand command="yfence events undelivered" />
        </span>
      }
    >
      <List />
    </Board>
  )
}

function List() {
  const kept = useUndelivered()
  const again = useSendAgain()
  const may = useMay('publish')
  if (kept.isPending) return <Loading what="the deliveries" />
  if (kept.error) return <Failure error={kept.error} />
  const list = kept.data.undelivered
  if (list.length === 0) return <p className="p-4 text-faint">Everything was delivered, or nobody is to be told.</p>
  const destinations = [...new Set(list.map((u) => u.destination))]
  return (
    <ul className="divide-y divide-line">
      {destinations.map((name) => {
        const mine = list.filter((u) => u.destination === name)
        const given = mine.filter((u) => u.state === 'given up').length
        return (
          <li key={name} className="flex flex-wrap items-center gap-x-3 px-4 py-2">
            <span className="font-medium">{name}</span>
            <span className={given > 0 ? 'text-bad' : 'text-care'}>
              {counted(mine.length - given, 'event')} due, {given} given up
            </span>
            <span className="text-sm text-faint">
              {mine[0]?.said} <Ago time={mine[0]?.event.at} />
            </span>
            {may && given > 0 && (
              <span className="ml-auto">
                <Deed name="Send again" consequence={<p>What was given up for {name} is due again, oldest first, with the same ids.</p>} run={() => again.mutateAsync(name)} />
              </span>
            )}
          </li>
        )
      })}
    </ul>
  )
}
