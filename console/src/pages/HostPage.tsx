// One host: what is otherwise than it is to be, and what can be done about it.
import { ChevronLeft } from 'lucide-react'
import { Tabs } from 'radix-ui'
import { useEffect } from 'react'
import { Link, useParams, useSearchParams } from 'react-router'

import type { HostStatus } from '../api/fleet'
import { useDrift, useHost, type Finding } from '../api/hosts'
import { Ago, Empty, Failure, Heading, Loading, Mono, StateBadge } from '../components/basics'
import { AsCommand } from '../components/Button'
import { Tab } from '../components/Tab'
import { Connections } from './host/Connections'
import { Deeds } from './host/Deeds'
import { Addresses, LastChange } from './host/Facts'
import { FindingCard, Nothing } from './host/Findings'
import { Past } from './host/Past'
import { Probe } from './host/Probe'
import { Rules } from './host/Rules'
import { Copies, Listeners } from './host/Told'

const tabs = ['findings', 'rules', 'listeners', 'connections', 'copies', 'past', 'try']

export default function HostPage() {
  const { host = '' } = useParams()
  const status = useHost(host)
  const [params, setParams] = useSearchParams()
  const at = params.get('at') ?? ''
  const drift = useDrift(host, at)
  const asked = params.get('show') ?? ''
  if (drift.error) return <Failure error={drift.error} />
  if (status.error) return <Failure error={status.error} />
  if (status.isPending || drift.isPending) return <Loading what={host} />
  const known = status.data.host
  const found = drift.data.hosts?.[0]
  if (!known || !found) return <Empty title={`There is no host ${host}`}>It may have left the fleet.</Empty>
  return (
    <>
      <Link to="/fleet" className="no-print mb-2 inline-flex items-center gap-1 text-sm text-faint hover:text-ink">
        <ChevronLeft className="size-4" aria-hidden /> Fleet
      </Link>
      <Heading title={host}>
        <StateBadge state={found.state} />
        <span className="text-faint">{(known.roles ?? []).join(', ')}</span>
        <span className="ml-auto">{at === '' && <Deeds host={known} />}</span>
      </Heading>
      <div className="-mt-2 mb-5 flex flex-wrap items-center gap-x-4 gap-y-1 text-sm text-faint">
        <span>
          last report <Ago time={known.heard_at} />, {inForce(known, status.data.revision)}
        </span>
        <AsCommand command={`yfence drift ${host}${at === '' ? '' : ` --at ${at}`}`} />
        <Addresses host={known} />
      </div>
      {at === '' ? (
        <>
          <Warnings host={known} why={found.why} state={found.state} />
          {known.change && <LastChange change={known.change} />}
        </>
      ) : (
        <Then host={host} at={at} revision={drift.data.revision} />
      )}
      <Tabs.Root
        value={tabs.includes(asked) ? asked : 'findings'}
        onValueChange={(show) => {
          setParams({ ...(show !== 'findings' && { show }), ...(at !== '' && { at }) }, { replace: true })
        }}
      >
        <Tabs.List className="no-print mb-4 flex flex-wrap gap-1 border-b border-line" aria-label="What to see of the host">
          <Tab value="findings">Findings</Tab>
          <Tab value="rules">Rules, published beside live</Tab>
          <Tab value="listeners">Listeners</Tab>
          <Tab value="connections">Open connections</Tab>
          <Tab value="copies">Copies</Tab>
          <Tab value="past">Past</Tab>
          <Tab value="try">Try a connection</Tab>
        </Tabs.List>
        <Tabs.Content value="findings" className="flex flex-col gap-4">
          {(found.unread ?? []).map((what) => (
            <div key={what} className="rounded-board border border-care bg-care-wash p-4 text-care">
              <p className="font-semibold">Not understood, and it could matter</p>
              <Mono>{what}</Mono>
            </div>
          ))}
          <Findings findings={found.findings ?? []} />
          {(found.findings ?? []).length === 0 && <Nothing state={found.state} host={host} />}
        </Tabs.Content>
        <Tabs.Content value="rules">
          <Rules host={host} at={at} findings={found.findings ?? []} />
        </Tabs.Content>
        <Tabs.Content value="listeners">
          <Listeners host={host} />
        </Tabs.Content>
        <Tabs.Content value="connections">
          <Connections host={host} roles={known.roles ?? []} />
        </Tabs.Content>
        <Tabs.Content value="past">
          <Past host={host} />
        </Tabs.Content>
        <Tabs.Content value="try">
          <Probe host={host} />
        </Tabs.Content>
        <Tabs.Content value="copies">
          <Copies host={host} roles={known.roles ?? []} />
        </Tabs.Content>
      </Tabs.Root>
    </>
  )
}

/** All findings; a link to one of them leads to it. */
function Findings({ findings }: { findings: Finding[] }) {
  useEffect(() => {
    if (window.location.hash !== '') document.querySelector(window.location.hash)?.scrollIntoView()
  }, [])
  return findings.map((f, i) => <FindingCard key={`${f.kind} ${f.direction} ${f.live.at} ${f.published.by} ${f.traffic}`} finding={f} id={`finding-${String(i + 1)}`} />)
}

/** Says that the page is about an instant of the past, and how one comes back. */
function Then({ host, at, revision }: { host: string; at: string; revision: number }) {
  return (
    <p role="status" className="mb-5 rounded-board border border-care bg-care-wash p-4 text-care">
      The findings and the rules below are those of <time dateTime={at}>{new Date(at).toLocaleString()}</time>, compared with revision {revision}, which was published then.{' '}
      <Link to={`/hosts/${host}`} className="font-semibold underline underline-offset-2">
        See the host now
      </Link>
    </p>
  )
}

/** What is to be known of a host before anything else. */
function Warnings({ host, why, state }: { host: HostStatus; why: string | undefined; state: string }) {
  const differs = host.differs ?? []
  return (
    <>
      {why !== undefined && (
        <p role="status" className="mb-5 rounded-board border border-care bg-care-wash p-4 text-care">
          <span className="font-semibold">{state}:</span> {why}
        </p>
      )}
      {differs.length > 0 && (
        <div role="status" className="mb-5 rounded-board border border-care bg-care-wash p-4 text-care">
          <p className="font-semibold">Its addresses are not as the fleet file says</p>
          <ul>
            {differs.map((d) => (
              <li key={d}>{d}</li>
            ))}
          </ul>
        </div>
      )}
    </>
  )
}

/** Which revision is in force on a host, beside the one that is published. */
function inForce(host: HostStatus, published: number): string {
  if (host.in_force === undefined)
    return host.asked === undefined ? 'never asked to settle anything' : `no published revision in force; last asked for revision ${host.asked}`
  return host.in_force === published ? `revision ${published} in force` : `revision ${host.in_force} in force, revision ${published} published`
}
