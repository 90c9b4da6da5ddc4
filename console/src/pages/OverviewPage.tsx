// The overview: the whole fence, and what needs a person now.
import { lazy, Suspense } from 'react'
import { Link, useSearchParams } from 'react-router'

import { useFleetHead, useOutline } from '../api/fleet'
import { Board, Empty, Failure, Heading, Loading, Mono, count, counted } from '../components/basics'
import { AsCommand } from '../components/Button'
import { Concerns } from '../components/Concerns'
import { Legend } from '../components/palisade/Legend'
import { Palisade } from '../components/palisade/Palisade'

const Plots = lazy(() => import('../components/Plots'))

export function OverviewPage() {
  const outline = useOutline()
  const [params, setParams] = useSearchParams()
  const role = params.get('role') ?? undefined
  if (outline.isPending) return <Loading what="the fleet" />
  if (outline.error) return <Failure error={outline.error} />
  const hosts = outline.data.hosts
  if (hosts.length === 0) {
    return (
      <Empty title="There are no hosts yet">
        Write a fleet file and import it: <Mono>yfence fleet import fleet.json</Mono>
      </Empty>
    )
  }
  const wrong = hosts.filter((h) => h.state !== 'in step' && h.state !== 'others').length
  return (
    <>
      <Heading title="Overview">
        <span className="text-faint">
          {counted(hosts.length, 'host')}, {wrong === 0 ? 'all in step' : `${count(wrong)} not in step`}
        </span>
        <span className="ml-auto">
          <AsCommand command="yfence attention" />
        </span>
      </Heading>
      <div className="grid items-start gap-5 xl:grid-cols-[minmax(0,1fr)_26rem]">
        <Board title="The palisade" beside={<span className="text-sm text-faint">each picket is a host</span>}>
          <div className="flex flex-col gap-4 p-4">
            <Palisade
              hosts={hosts}
              role={role}
              choose={(chosen) => {
                setParams(chosen === undefined ? {} : { role: chosen })
              }}
            />
            <Legend hosts={hosts} role={role} />
          </div>
        </Board>
        <Concerns />
        <div className="xl:col-span-2">
          <Suspense fallback={<Loading what="the plots" />}>
            <Plots />
          </Suspense>
        </div>
        <Progress />
      </div>
    </>
  )
}

/** How far each revision has come. */
function Progress() {
  const head = useFleetHead()
  const has = head.data?.in_force ?? []
  const all = has.reduce((sum, r) => sum + r.hosts, 0)
  if (!head.data || head.data.revision === 0 || all === 0) return null
  return (
    <Board title="Revisions in force">
      <ul className="divide-y divide-line">
        {has.map((r) => (
          <li key={r.revision} className="grid grid-cols-[9rem_1fr_5rem] items-center gap-3 px-4 py-2">
            <Link to={r.revision === 0 ? '/fleet?sort=in_force' : `/policy?revision=${String(r.revision)}`} className="font-medium hover:underline">
              {r.revision === 0 ? 'none of ours' : `revision ${String(r.revision)}`}
            </Link>
            <span className="h-2.5 rounded-full bg-sunk" aria-hidden>
              <span className={`block h-full rounded-full ${r.revision === head.data.revision ? 'bg-good' : r.revision === 0 ? 'bg-bad' : 'bg-care'}`} style={{ width: `${String((100 * r.hosts) / all)}%` }} />
            </span>
            <span className="text-right text-sm text-faint">{counted(r.hosts, 'host')}</span>
          </li>
        ))}
      </ul>
    </Board>
  )
}
