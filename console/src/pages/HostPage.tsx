import { ChevronLeft, CircleCheck, CircleSlash, DoorOpen, PencilLine, Shuffle, type LucideIcon } from 'lucide-react'
import { Tabs } from 'radix-ui'
import type { ReactNode } from 'react'
import { Link, useParams } from 'react-router'

import { useDrift, useFleet, useLive, type Chain, type Finding, type HostStatus, type Packet, type Rule } from '../api'
import { Copies, Listeners } from '../components/HostTabs'
import { Ago, Empty, Failure, Loading, Mono, StateBadge } from '../components/parts'

export function HostPage() {
  const { host = '' } = useParams()
  const fleet = useFleet()
  const drift = useDrift(host)
  if (drift.error) return <Failure error={drift.error} />
  if (fleet.error) return <Failure error={fleet.error} />
  if (fleet.isPending || drift.isPending) return <Loading what={host} />
  const known = (fleet.data.hosts ?? []).find((h) => h.name === host)
  const found = drift.data.hosts?.[0]
  if (!known || !found) return <Empty title={`There is no host ${host}`}>It may have left the fleet.</Empty>
  return (
    <>
      <Link to="/" className="mb-2 inline-flex items-center gap-1 text-sm text-faint hover:text-ink">
        <ChevronLeft className="size-4" aria-hidden /> Fleet
      </Link>
      <div className="mb-5 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h1 className="text-2xl font-semibold tracking-tight">{host}</h1>
        <StateBadge state={found.state} />
        <span className="text-faint">{(known.roles ?? []).join(', ')}</span>
        <span className="text-sm text-faint">
          last report <Ago time={known.heard_at} />, {inForce(known, fleet.data.revision)}
        </span>
        <Addresses host={known} />
      </div>
      {found.why !== undefined && (
        <p role="status" className="mb-5 rounded-lg border border-care bg-care-wash p-4 text-care">
          <span className="font-semibold">{found.state}:</span> {found.why}
        </p>
      )}
      {(known.differs ?? []).length > 0 && (
        <div role="status" className="mb-5 rounded-lg border border-care bg-care-wash p-4 text-care">
          <p className="font-semibold">Its addresses are not as the fleet file says</p>
          <ul>
            {(known.differs ?? []).map((d) => (
              <li key={d}>{d}</li>
            ))}
          </ul>
        </div>
      )}
      {known.change && <LastChange change={known.change} />}
      <Tabs.Root defaultValue="findings">
        <Tabs.List className="mb-4 flex gap-1 border-b border-line" aria-label="What to see of the host">
          <Tab value="findings">Findings</Tab>
          <Tab value="rules">Rules, published beside live</Tab>
          <Tab value="listeners">Listeners</Tab>
          <Tab value="copies">Copies</Tab>
        </Tabs.List>
        <Tabs.Content value="findings" className="flex flex-col gap-4">
          {(found.unread ?? []).map((what) => (
            <div key={what} className="rounded-lg border border-care bg-care-wash p-4 text-care">
              <p className="font-semibold">Not understood, and it could matter</p>
              <Mono>{what}</Mono>
            </div>
          ))}
          {(found.findings ?? []).map((f) => (
            <FindingCard key={`${f.kind} ${f.direction} ${f.live.at} ${f.published.by} ${f.traffic}`} finding={f} />
          ))}
          {(found.findings ?? []).length === 0 && <Nothing state={found.state} host={host} />}
        </Tabs.Content>
        <Tabs.Content value="rules">
          <Rules host={host} findings={found.findings ?? []} />
        </Tabs.Content>
        <Tabs.Content value="listeners">
          <Listeners host={host} />
        </Tabs.Content>
        <Tabs.Content value="copies">
          <Copies host={host} />
        </Tabs.Content>
      </Tabs.Root>
    </>
  )
}

/** Which revision is in force on a host, beside the one that is published. */
function inForce(host: HostStatus, published: number): string {
  if (host.in_force === undefined)
    return host.asked === undefined ? 'never asked to settle anything' : `no published revision in force; last asked for revision ${host.asked}`
  return host.in_force === published ? `revision ${published} in force` : `revision ${host.in_force} in force, revision ${published} published`
}

/** How the last change of the host's rules stands. */
function LastChange({ change }: { change: NonNullable<HostStatus['change']> }) {
  return (
    <p className="mb-5 text-sm text-faint">
      Last change: {change.what}, <span className="font-medium text-ink">{change.phase}</span>
      {change.why !== undefined && change.why !== '' && <> ({change.why})</>}, begun <Ago time={change.began} />
      {change.phase === 'in force' && (
        <>
          ; {change.kind === 'pause' ? 'it ends' : 'it goes back'} <Ago time={change.until} ahead />
          {change.kind !== 'pause' && ' unless it is kept'}
        </>
      )}
    </p>
  )
}

function Addresses({ host }: { host: HostStatus }) {
  return (
    <dl className="flex w-full flex-wrap gap-x-5 text-sm text-faint">
      {(host.interfaces ?? []).map((i) => (
        <div key={i.name} className="flex gap-1.5">
          <dt className="font-medium">{i.name}</dt>
          <dd>
            <Mono>{i.addresses.join('  ')}</Mono>
          </dd>
        </div>
      ))}
      {host.instance && (
        <div className="flex gap-1.5">
          <dt className="font-medium">{host.instance.cloud}</dt>
          <dd>
            <Mono>{host.instance.id}</Mono>
          </dd>
        </div>
      )}
    </dl>
  )
}

function Tab({ value, children }: { value: string; children: ReactNode }) {
  return (
    <Tabs.Trigger value={value} className="-mb-px border-b-2 border-transparent px-3 py-2 font-medium text-faint hover:text-ink data-[state=active]:border-fence data-[state=active]:text-ink">
      {children}
    </Tabs.Trigger>
  )
}

function Nothing({ state, host }: { state: string; host: string }) {
  switch (state) {
    case 'new':
      return (
        <Empty title="This host has never reported">
          <Mono>yfence fleet enrol {host}</Mono> gives a token for it; then run on it <Mono>yfence attend --enrol FILE --server URL</Mono>
        </Empty>
      )
    case 'silent':
      return <Empty title="This host has gone silent">Its last report was in step. Look whether it runs, and whether it reaches the service.</Empty>
    default:
      return <Empty title="Nothing to report">Every packet fares on this host as the policy says.</Empty>
  }
}

const kinds: Record<Finding['kind'], { icon: LucideIcon; look: string; bar: string }> = {
  opened: { icon: DoorOpen, look: 'text-bad', bar: 'border-l-bad' },
  shut: { icon: CircleSlash, look: 'text-bad', bar: 'border-l-bad' },
  altered: { icon: PencilLine, look: 'text-care', bar: 'border-l-care' },
  cosmetic: { icon: Shuffle, look: 'text-faint', bar: 'border-l-line' },
  boot: { icon: Shuffle, look: 'text-care', bar: 'border-l-care' },
}

/** How a difference came about. */
function because(f: Finding): string {
  if (f.because === 'behind') return 'published, and not settled here yet'
  return f.revision === undefined ? '' : `somebody changed what was settled, which was of revision ${f.revision}`
}

function FindingCard({ finding: f }: { finding: Finding }) {
  const { icon: Icon, look, bar } = kinds[f.kind]
  return (
    <article className={`rounded-lg border border-l-4 border-line bg-board p-5 ${bar}`}>
      <p className={`mb-1 flex items-center gap-1.5 text-sm font-semibold ${look}`}>
        <Icon className="size-4" aria-hidden /> {f.kind}
        <span className="font-normal text-faint">{because(f)}</span>
      </p>
      <h2 className="mb-4 text-lg leading-snug font-medium">{f.sentence}</h2>
      {f.packet && (
        <div className="grid gap-5 lg:grid-cols-[minmax(0,5fr)_minmax(0,4fr)_minmax(0,4fr)]">
          <Section title="A packet that shows it">
            <PacketFields packet={f.packet} />
          </Section>
          <Section title="On the host">
            <Verdict verdict={f.live.verdict} />
            <p className="break-words">
              <Mono>{f.live.rule}</Mono>
            </p>
            <p className="text-sm text-faint">{f.live.at}</p>
          </Section>
          <Section title="As published">
            <Verdict verdict={f.published.verdict} />
            <p>
              <Mono>{f.published.by}</Mono>
            </p>
            <Place at={f.published.at} />
          </Section>
        </div>
      )}
      <p className="mt-4 border-t border-line pt-3">
        <span className="mr-2 font-semibold">What to do</span>
        <Hint text={f.hint} />
      </p>
    </article>
  )
}

function Section({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section>
      <h3 className="mb-1 text-sm font-medium text-faint">{title}</h3>
      {children}
    </section>
  )
}

function Verdict({ verdict }: { verdict: string }) {
  const Icon = verdict === 'admitted' ? CircleCheck : CircleSlash
  return (
    <p className="flex items-center gap-1.5 font-semibold">
      <Icon className="size-4" aria-hidden /> {verdict}
    </p>
  )
}

/** The place of a statement in the policy, as a link to it. */
function Place({ at }: { at: string | undefined }) {
  const [file, line] = at?.split(':') ?? []
  if (!file || !line) return null
  return (
    <Link to={`/policy?file=${encodeURIComponent(file)}&line=${line}`} className="text-sm text-faint underline underline-offset-2 hover:text-ink">
      {file}, line {line}
    </Link>
  )
}

/** A hint, with what stands between back quotes as something to copy. */
function Hint({ text }: { text: string }) {
  return text.split('`').map((part, i) =>
    i % 2 === 1 ? (
      <code key={part} className="rounded bg-sunk px-1.5 py-0.5 font-mono text-[0.86em]">
        {part}
      </code>
    ) : (
      part
    ),
  )
}

const hex = (mark: number) => `0x${mark.toString(16)}`

function PacketFields({ packet: p }: { packet: Packet }) {
  const port = (n: number | undefined) => (n === undefined ? '' : ` port ${n}`)
  const fields: [string, string][] = [
    ['Protocol', p.protocol + (p.icmp_type === undefined ? '' : ` type ${p.icmp_type}`) + (p.fragment ? `, ${p.fragment} fragment` : '')],
    ['From', p.src + port(p.sport)],
    ['To', p.dst + port(p.dport)],
  ]
  if (p.in) fields.push(['Arrives on', p.in])
  if (p.out) fields.push(['Leaves by', p.out])
  if (p.state) fields.push(['Connection', p.state])
  if (p.tcp_flags) fields.push(['TCP flags', p.tcp_flags])
  for (const [who, name] of [['User', p.user], ['Group', p.group], ['Unit', p.unit]]) {
    if (who && name) fields.push([who, name])
  }
  if (p.mark) fields.push(['Mark', hex(p.mark)])
  if (p.connection_mark) fields.push(['Its connection’s', hex(p.connection_mark)])
  if (p.encrypted) fields.push(['Encrypted', 'by IPsec'])
  if (p.time) fields.push(['At', p.time])
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-4">
      {fields.map(([name, value]) => (
        <div key={name} className="contents">
          <dt className="text-faint">{name}</dt>
          <dd>
            <Mono>{value}</Mono>
          </dd>
        </div>
      ))}
    </dl>
  )
}

function Rules({ host, findings }: { host: string; findings: Finding[] }) {
  const live = useLive(host)
  if (live.error) return <Failure error={live.error} />
  if (live.isPending) return <Loading what="the rules" />
  const guilty = new Set(findings.map((f) => f.live.at))
  return (
    <>
      <p className="mb-3 text-sm text-faint">
        Highlighted rules have no equivalent on the other side. Two rules are equal when they do the same, however they are written.
      </p>
      <div className="grid gap-4 lg:grid-cols-2">
        <Column title="Published" chains={live.data.published ?? []} mark="missing on the host" guilty={new Set()} />
        {live.data.unread ? (
          <Empty title="The host’s report could not be read">{live.data.unread}</Empty>
        ) : (
          <Column title="Live" chains={live.data.chains ?? []} mark="only on the host" guilty={guilty} />
        )}
      </div>
    </>
  )
}

function Column({ title, chains, mark, guilty }: { title: string; chains: Chain[]; mark: string; guilty: Set<string> }) {
  return (
    <section aria-label={`${title} rules`} className="min-w-0">
      <h2 className="mb-2 font-semibold">{title}</h2>
      {chains.length === 0 && <Empty title="No rules">No filter was in force when the host last reported.</Empty>}
      {chains.map((c) => (
        <div key={c.place} className="mb-3 overflow-hidden rounded-lg border border-line bg-board">
          <p className="border-b border-line bg-sunk px-3 py-1.5 text-sm">
            <span className="font-medium">{c.place}</span>
            {c.hook && (
              <span className="text-faint">
                {' '}
                on {c.hook}, policy {c.policy}
              </span>
            )}
          </p>
          <ol>
            {(c.rules ?? []).map((r, i) => (
              <RuleLine key={i} rule={r} mark={mark} guilty={guilty.has(r.at ?? '')} />
            ))}
          </ol>
          {(c.rules ?? []).length === 0 && <p className="px-3 py-2 text-sm text-faint">no rules</p>}
        </div>
      ))}
    </section>
  )
}

function RuleLine({ rule: r, mark, guilty }: { rule: Rule; mark: string; guilty: boolean }) {
  const alone = !r.twin
  return (
    <li className={`border-b border-line px-3 py-1.5 last:border-0 ${alone ? (guilty ? 'bg-bad-wash' : 'bg-care-wash') : ''}`}>
      <p className="break-words">
        <Mono>{r.text}</Mono>
      </p>
      <p className="flex flex-wrap gap-x-3 text-sm text-faint">
        {r.by && <span>{r.by}</span>}
        {alone && <span className={`font-medium ${guilty ? 'text-bad' : 'text-care'}`}>{mark}</span>}
      </p>
    </li>
  )
}
