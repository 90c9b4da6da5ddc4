// What one does with a host: each says beforehand what will happen, and how it is undone.
import { Pause, Play, RefreshCw, RotateCcw, Undo2 } from 'lucide-react'
import { useId, useState } from 'react'

import type { Schemas } from '../../api/client'
import type { HostStatus } from '../../api/fleet'
import { useAskHost } from '../../api/hosts'
import { useMay } from '../../api/session'
import { Ago, Mono } from '../../components/basics'
import { Deed, Field } from '../../components/Deed'
import { StartWave } from '../../components/StartWave'

const icon = 'size-4'

export function Deeds({ host }: { host: HostStatus }) {
  const roles = host.roles ?? []
  const maySettle = useMay('settle', roles)
  const mayPause = useMay('pause', roles)
  const ask = useAskHost(host.name)
  if (host.state === 'others') return null
  const waits = host.change?.phase === 'in force' && host.change.kind !== 'pause'
  return (
    <div className="no-print flex flex-wrap gap-2">
      {maySettle && <StartWave hosts={[host.name]} roles={roles} name="Settle" />}
      {maySettle && waits && (
        <Deed
          name="Take back"
          icon={<Undo2 className={icon} aria-hidden />}
          consequence={
            <p>
              The change that is not confirmed yet is undone now, instead of <Ago time={host.change?.until} ahead />. What was in force before it is in force again.
            </p>
          }
          reason="asked"
          run={(why) => ask.mutateAsync({ do: 'take back', why })}
        />
      )}
      {mayPause && (host.state === 'paused' ? <Resume ask={ask.mutateAsync} /> : <PauseIt host={host.name} ask={ask.mutateAsync} />)}
      {maySettle && (
        <Deed name="Ask for a report" icon={<RefreshCw className={icon} aria-hidden />} consequence={<p>The host tells now what it has in force, instead of at the next interval. Nothing is changed.</p>} run={() => ask.mutateAsync({ do: 'report' })} />
      )}
    </div>
  )
}

type Ask = (body: Schemas['TaskRequestBody']) => Promise<unknown>

function PauseIt({ host, ask }: { host: string; ask: Ask }) {
  const [within, setWithin] = useState('30m')
  const id = useId()
  return (
    <Deed
      name="Pause"
      icon={<Pause className={icon} aria-hidden />}
      look="bad"
      consequence={
        <>
          <p>
            The filter of <Mono>{host}</Mono> admits everything for a while, and logs what it would refuse. Whoever reaches the host reaches all that listens on it.
          </p>
          <p className="text-faint">It ends by itself after the time below, and the rules are in force again. Undo: resume.</p>
        </>
      }
      more={<Field id={id} label="For how long" value={within} onChange={setWithin} hint="as 90s, 30m or 2h; a day at most" />}
      reason="needed"
      run={(why) => ask({ do: 'pause', within, why })}
    />
  )
}

function Resume({ ask }: { ask: Ask }) {
  return (
    <Deed name="Resume" look="main" icon={<Play className={icon} aria-hidden />} consequence={<p>The pause ends now: the rules that were in force before it are in force again.</p>} run={() => ask({ do: 'resume' })} />
  )
}

export function PutBack({ host, roles, copy }: { host: string; roles: string[]; copy: Schemas['CopyNote'] }) {
  const may = useMay('settle', roles)
  const ask = useAskHost(host)
  if (!may) return null
  return (
    <Deed
      name="Put back"
      icon={<RotateCcw className={icon} aria-hidden />}
      consequence={
        <>
          <p>
            Copy {copy.number} is put in force on <Mono>{host}</Mono>: what was there before {copy.before}, <Ago time={copy.taken_at} />. The host goes back by itself unless a new connection to it succeeds.
          </p>
          <p className="text-faint">The host differs from the policy afterwards, until it is settled. What is in force now is kept as another copy.</p>
        </>
      }
      reason="needed"
      run={(why) => ask.mutateAsync({ do: 'put back', copy: copy.number, why })}
    />
  )
}
