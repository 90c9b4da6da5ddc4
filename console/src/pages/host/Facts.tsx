// What is known of a host besides its rules.
import type { HostStatus } from '../../api/fleet'
import { Ago, Mono } from '../../components/basics'

/** How the last change of the host's rules stands. */
export function LastChange({ change }: { change: NonNullable<HostStatus['change']> }) {
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

export function Addresses({ host }: { host: HostStatus }) {
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
