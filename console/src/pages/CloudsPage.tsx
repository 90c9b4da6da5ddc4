// The clouds: their groups, and what of them is not as it is to be.
import { Cloud as CloudIcon } from 'lucide-react'

import { useFleetHead, type CloudStatus } from '../api/fleet'
import { Ago, Empty, Failure, Heading, Loading, Mono, counted } from '../components/basics'
import { AsCommand } from '../components/Button'
import { Has } from './clouds/Has'

export default function CloudsPage() {
  const head = useFleetHead()
  if (head.isPending) return <Loading what="the clouds" />
  if (head.error) return <Failure error={head.error} />
  const clouds = head.data.clouds ?? []
  return (
    <>
      <Heading title="Clouds">
        <span className="ml-auto">
          <AsCommand command="yfence clouds" />
        </span>
      </Heading>
      {clouds.length === 0 && (
        <Empty title="No cloud is connected">
          Name one in the fleet file, and start the service with <Mono>--clouds FILE</Mono>; docs/groups.md says how.
        </Empty>
      )}
      <div className="flex flex-col gap-4">
        {clouds.map((c) => (
          <Cloud key={c.cloud} cloud={c} />
        ))}
      </div>
    </>
  )
}

/** How a cloud stands, and what of its groups is not as it is to be. */
function Cloud({ cloud: c }: { cloud: CloudStatus }) {
  const troubles = c.notes ?? []
  const waits = c.waits ?? []
  return (
    <section id={c.cloud} aria-label={`Cloud ${c.cloud}`} className="scroll-mt-16 rounded-board border border-line bg-board">
      <h2 className="flex flex-wrap items-baseline gap-x-3 border-b border-line px-4 py-2">
        <CloudIcon className="size-4 self-center text-faint" aria-hidden />
        <span className="font-semibold">{c.cloud}</span>
        <span className="text-sm text-faint">
          {c.instances} {c.instances === 1 ? 'instance' : 'instances'}, {c.groups} {c.groups === 1 ? 'group' : 'groups'}, read <Ago time={c.read_at} />
        </span>
      </h2>
      {c.failing && (
        <p role="alert" className="px-4 py-2 text-bad">
          It cannot be read now: {c.failing}
        </p>
      )}
      {waits.length > 0 && <p className="px-4 py-2 text-care">Asked for, not in force yet: {waits.join('; ')}</p>}
      {troubles.length === 0 && !c.failing && waits.length === 0 && <p className="px-4 py-2 text-sm text-faint">Its groups are as they are to be.</p>}
      {(c.left ?? []).length > 0 && (
        <details className="border-t border-line px-4 py-2 text-sm text-faint">
          <summary className="cursor-pointer">what groups cannot tell, and hosts filter themselves: {counted((c.left ?? []).length, 'note')}</summary>
          <ul className="mt-1">
            {(c.left ?? []).map((l) => (
              <li key={l}>{l}</li>
            ))}
          </ul>
        </details>
      )}
      <ul>
        {troubles.map((n) => (
          <li key={n.kind + n.what} className="grid gap-x-4 border-b border-line px-4 py-2 last:border-0 sm:grid-cols-[9rem_1fr]">
            <span className="font-medium text-bad">{n.kind}</span>
            <span>
              {n.says}
              <span className="block text-sm text-faint">{n.hint}</span>
            </span>
          </li>
        ))}
      </ul>
      <Has cloud={c.cloud} />
    </section>
  )
}
