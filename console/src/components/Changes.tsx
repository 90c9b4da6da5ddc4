// What a change of the policy newly admits and refuses, the widest first.
import { CircleSlash, DoorOpen, PencilLine, type LucideIcon } from 'lucide-react'

import type { Difference } from '../api/proposals'
import type { Schemas } from '../api/client'
import { Mono, counted } from './basics'

const kinds: Record<string, { icon: LucideIcon; look: string; says: string }> = {
  opened: { icon: DoorOpen, look: 'text-bad', says: 'newly admitted' },
  shut: { icon: CircleSlash, look: 'text-care', says: 'newly refused' },
  altered: { icon: PencilLine, look: 'text-care', says: 'otherwise done' },
}

export function Changes({ changes }: { changes: Schemas['Changes'] }) {
  const lists: [string, string[]][] = [
    ['Guards', changes.guards ?? []],
    ['Expectations', changes.expects ?? []],
    ['Written otherwise', changes.written ?? []],
    ['Hosts that come', changes.added ?? []],
    ['Hosts that go', changes.removed ?? []],
  ]
  if (changes.changes.length === 0 && lists.every(([, l]) => l.length === 0)) return <p className="p-4 text-faint">This change does not affect any packet.</p>
  return (
    <>
      <ul className="divide-y divide-line">
        {changes.changes.map((d) => (
          <Change key={`${d.kind} ${d.sentence} ${(d.hosts ?? []).join()}`} difference={d} />
        ))}
      </ul>
      {lists
        .filter(([, l]) => l.length > 0)
        .map(([name, l]) => (
          <div key={name} className="border-t border-line px-4 py-2.5">
            <h3 className="text-sm font-semibold">{name}</h3>
            <ul className="text-sm">
              {l.map((what) => (
                <li key={what}>{what}</li>
              ))}
            </ul>
          </div>
        ))}
    </>
  )
}

function Change({ difference: d }: { difference: Difference }) {
  const kind = kinds[d.kind]
  const Icon = kind?.icon ?? PencilLine
  const hosts = d.hosts ?? []
  return (
    <li className="px-4 py-2.5">
      <p className={`flex flex-wrap items-baseline gap-x-2 text-sm font-semibold ${kind?.look ?? ''}`}>
        <Icon className="size-4 self-center" aria-hidden /> {kind?.says ?? d.kind}
        {d.strangers && <span className="rounded-full bg-bad-wash px-2 text-bad">strangers</span>}
        <span className="ml-auto font-normal text-faint" title={hosts.join('\n')}>
          {hosts.length === 1 ? hosts[0] : counted(hosts.length, 'host')}
        </span>
      </p>
      <p>{d.sentence}</p>
      <p className="text-sm text-faint">
        {d.from.verdict} by <Mono>{d.from.by}</Mono> until now, {d.to.verdict} by <Mono>{d.to.by}</Mono> then; for one {d.packet.protocol} from {d.packet.src} to {d.packet.dst}
        {d.packet.dport !== undefined && ` port ${String(d.packet.dport)}`}
      </p>
    </li>
  )
}

/** Connections that were seen, and that a change would refuse. */
export function CutsList({ cuts }: { cuts: Schemas['Cuts'] }) {
  if (cuts.watching === 0) return <p className="p-4 text-sm text-faint">No host reports new connections, so it is unknown which of them this change would cut.</p>
  if (cuts.cut.length === 0) return <p className="p-4 text-sm text-good">None of the connections seen on {counted(cuts.watching, 'host')} would be refused.</p>
  return (
    <ul className="divide-y divide-line">
      {cuts.cut.map((c) => (
        <li key={`${c.from.name} ${c.to.name} ${c.service}`} className="px-4 py-2">
          <span className="font-medium">
            {c.from.name} → {c.to.name} : {c.service}
          </span>{' '}
          <span className="text-sm text-faint">
            {counted(c.times, 'connection')}, admitted by {c.was}, refused then by {c.by}
          </span>
        </li>
      ))}
    </ul>
  )
}
