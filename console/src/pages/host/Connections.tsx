// Connections that are open and that the policy refuses: they are looked at before they are cut.
import { Scissors } from 'lucide-react'

import { useAskHost, type OpenConnection, type TaskStatus } from '../../api/hosts'
import { useMay } from '../../api/session'
import { Empty, Failure, Mono, counted } from '../../components/basics'
import { AsCommand, Button } from '../../components/Button'
import { Deed } from '../../components/Deed'

const foundBy = (task: TaskStatus | undefined) => task?.result?.connections ?? []

export function Connections({ host, roles }: { host: string; roles: string[] }) {
  const may = useMay('settle', roles)
  const look = useAskHost(host)
  const cut = useAskHost(host)
  if (!may) return <Empty title="You may not ask this host">Open connections are read from the host itself. That takes the right settle.</Empty>
  const list = foundBy(cut.data ?? look.data)
  return (
    <section aria-label="Connections" className="flex flex-col gap-4">
      <div className="flex flex-wrap items-center gap-3">
        <Button
          look="main"
          disabled={look.isPending}
          onClick={() => {
            cut.reset()
            look.mutate({ do: 'connections' })
          }}
        >
          {look.isPending ? 'Asking the host …' : 'Look for refused connections'}
        </Button>
        {look.data && !cut.data && list.length > 0 && (
          <Deed
            name={`Cut ${counted(list.length, 'connection')}`}
            icon={<Scissors className="size-4" aria-hidden />}
            look="bad"
            consequence={
              <>
                <p>
                  The connections below are cut on <Mono>{host}</Mono>, and those that came since. Whoever uses one notices at once.
                </p>
                <p className="text-faint">A connection that was cut does not come back by itself. New ones are refused already where the rules are in force.</p>
              </>
            }
            sure={host}
            run={() => cut.mutateAsync({ do: 'connections', cut: true })}
          />
        )}
        <AsCommand command={`yfence connections ${host}`} />
      </div>
      {look.error && <Failure error={look.error} />}
      {!look.data && !look.isPending && !look.error && <Empty title="A rule that closes a port does not end what is open">The host is asked which open connections its rules would refuse now. Nothing is cut by looking.</Empty>}
      {look.data && list.length === 0 && <Empty title="None">Each open connection is one that the policy admits.</Empty>}
      {list.length > 0 && <List connections={list} />}
    </section>
  )
}

function List({ connections }: { connections: OpenConnection[] }) {
  return (
    <ul className="divide-y divide-line rounded-board border border-line bg-board">
      {connections.map((c) => (
        <li key={`${c.protocol} ${c.from} ${c.to}`} className="flex flex-wrap items-baseline gap-x-4 px-5 py-2">
          <Mono>
            {c.protocol} {c.from} → {c.to}
          </Mono>
          <span className="text-sm text-faint">{c.state}</span>
          {c.cut === true && <span className="text-sm font-medium text-good">cut</span>}
          {c.why !== undefined && <span className="text-sm text-bad">not cut: {c.why}</span>}
        </li>
      ))}
    </ul>
  )
}
