// What a host tells of itself besides its rules: what listens, and its copies.
import { CircleCheck, CircleSlash, Ear, EarOff, House, PowerOff, type LucideIcon } from 'lucide-react'

import { useCopies, useListeners, type ListenerNote } from '../../api/hosts'
import { PutBack } from './Deeds'
import { Ago, Empty, Failure, Loading, Mono } from '../../components/basics'

const notes: Record<ListenerNote['kind'], { icon: LucideIcon; look: string }> = {
  shut: { icon: CircleSlash, look: 'text-care' },
  'too wide': { icon: Ear, look: 'text-care' },
  'nobody listens': { icon: EarOff, look: 'text-care' },
  down: { icon: PowerOff, look: 'text-care' },
  'as meant': { icon: CircleCheck, look: 'text-good' },
  'for itself alone': { icon: House, look: 'text-faint' },
}

/** What listens on a host, against what its policy admits. What asks for a look comes first. */
export function Listeners({ host }: { host: string }) {
  const listeners = useListeners(host)
  if (listeners.isPending) return <Loading what="what listens" />
  if (listeners.error) return <Failure error={listeners.error} />
  const known = listeners.data.hosts[0]
  if (!known || known.untold !== undefined) {
    return (
      <Empty title="What listens here is not known">
        {known?.untold ?? ''} <Mono>yfence attend</Mono> on the host reports it.
      </Empty>
    )
  }
  const fine = (n: ListenerNote) => n.kind === 'as meant' || n.kind === 'for itself alone'
  const list = [...known.notes.filter((n) => !fine(n)), ...known.notes.filter(fine)]
  if (list.length === 0) return <Empty title="Nothing listens, and nobody may come">That is how it should be.</Empty>
  return (
    <section aria-label="What listens" className="rounded-board border border-line bg-board">
      <ul className="divide-y divide-line">
        {list.map((n) => {
          const { icon: Icon, look } = notes[n.kind]
          return (
            <li key={`${n.kind} ${n.says}`} className="grid items-baseline gap-x-4 px-5 py-2.5 sm:grid-cols-[10rem_1fr_auto]">
              <span className={`flex items-center gap-1.5 text-sm font-medium ${look}`}>
                <Icon className="size-3.5 self-center" aria-hidden />
                {n.kind}
              </span>
              <span>{n.says}</span>
              <span className="text-sm text-faint">{n.at}</span>
            </li>
          )
        })}
      </ul>
      <p className="border-t border-line px-5 py-2.5 text-sm text-faint">
        As the host saw it <Ago time={known.taken_at} />.
      </p>
    </section>
  )
}

/** The copies that a host keeps of what was in force before each change. */
export function Copies({ host, roles }: { host: string; roles: string[] }) {
  const copies = useCopies(host)
  if (copies.isPending) return <Loading what="the copies" />
  if (copies.error) return <Failure error={copies.error} />
  const list = copies.data.copies
  if (list.length === 0) return <Empty title="No copy yet">One is kept before each change of the host&apos;s rules.</Empty>
  return (
    <section aria-label="Copies" className="rounded-board border border-line bg-board">
      <ul className="divide-y divide-line">
        {list.map((c) => (
          <li key={c.number} className="grid items-baseline gap-x-4 px-5 py-2.5 sm:grid-cols-[3rem_1fr_6rem_8rem_8rem]">
            <span className="font-medium">{c.number}</span>
            <span>what was there before {c.before}</span>
            <span className="text-sm text-faint">{c.rules === 1 ? '1 rule' : `${String(c.rules)} rules`}</span>
            <span className="text-sm text-faint">
              <Ago time={c.taken_at} />
            </span>
            <PutBack host={host} roles={roles} copy={c} />
          </li>
        ))}
      </ul>
    </section>
  )
}
