// People who are signed in through the identity provider.
import { useMay } from '../../api/session'
import { usePeople, useSignOutPerson } from '../../api/settings'
import { Ago, Board, Failure, Loading, counted } from '../../components/basics'
import { AsCommand } from '../../components/Button'
import { Deed } from '../../components/Deed'

export function People() {
  const may = useMay('tokens')
  if (!may) return null
  return (
    <Board
      title="People who are signed in"
      beside={
        <span className="ml-auto">
          <AsCommand command="yfence people" />
        </span>
      }
    >
      <List />
    </Board>
  )
}

function List() {
  const people = usePeople()
  const out = useSignOutPerson()
  if (people.isPending) return <Loading what="the people" />
  if (people.error) return <Failure error={people.error} />
  if (people.data.people.length === 0) return <p className="p-4 text-faint">Nobody is signed in through an identity provider; tokens are above.</p>
  return (
    <ul className="divide-y divide-line">
      {people.data.people.map((p) => (
        <li key={p.subject} className="flex flex-wrap items-center gap-x-3 gap-y-1 px-4 py-2">
          <span className="font-medium">{p.name}</span>
          <span className="text-sm text-faint">
            {p.rights.join(', ') || 'no rights now'}; of {p.groups.join(', ') || 'no group'}; {counted(p.sessions, 'session')}, to end <Ago time={p.until} ahead />
          </span>
          <span className="ml-auto">
            <Deed name="Sign out" small reason="asked" consequence={<p>All sessions of {p.name} end now. Who still may sign in can do so again.</p>} run={(why) => out.mutateAsync({ name: p.name, why })} />
          </span>
        </li>
      ))}
    </ul>
  )
}
