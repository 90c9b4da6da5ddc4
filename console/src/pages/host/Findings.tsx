// What is otherwise on a host than it is to be: each difference with a packet that shows it.
import { CircleCheck, CircleSlash, DoorOpen, Link as LinkIcon, PencilLine, Shuffle, type LucideIcon } from 'lucide-react'
import type { ReactNode } from 'react'
import { Link } from 'react-router'

import type { Finding, Packet } from '../../api/hosts'
import { Empty, Mono } from '../../components/basics'
import { Place } from '../../components/Place'

export function Nothing({ state, host }: { state: string; host: string }) {
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
      return <Empty title="Nothing to report">This host treats every packet as the policy says.</Empty>
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
  return f.revision === undefined ? '' : `somebody changed the rules on the host itself; revision ${f.revision} was in force there`
}

export function FindingCard({ finding: f, id }: { finding: Finding; id: string }) {
  const { icon: Icon, look, bar } = kinds[f.kind]
  return (
    <article id={id} className={`scroll-mt-16 rounded-board border border-l-4 border-line bg-board p-5 ${bar}`}>
      <p className={`mb-1 flex items-center gap-1.5 text-sm font-semibold ${look}`}>
        <Icon className="size-4" aria-hidden /> {f.kind}
        <span className="font-normal text-faint">
          {because(f)}
          {f.because !== 'behind' && f.kind !== 'cosmetic' && (
            <>
              {', '}
              <Link to="?show=past" className="underline underline-offset-2 hover:text-ink">
                when and how
              </Link>
            </>
          )}
        </span>
        <a href={`#${id}`} aria-label="A link to this finding" className="no-print ml-auto rounded-plank p-1 text-faint hover:text-ink">
          <LinkIcon className="size-3.5" aria-hidden />
        </a>
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
