// Starting a wave: what it will do is said before.
import { Ship } from 'lucide-react'
import { useId, useState } from 'react'
import { useNavigate } from 'react-router'

import { useFleetHead } from '../api/fleet'
import { useMay, wholeFleet } from '../api/session'
import { useStartWave } from '../api/waves'
import { Deed, Field } from './Deed'
import { counted } from './basics'
import { WavePlan } from './WavePlan'

/** Starts a wave over some hosts, or over the whole fleet where none are named; roles are those of the hosts, where they are known. */
export function StartWave({ hosts, name, roles }: { hosts: string[]; name?: string; roles?: string[] }) {
  const may = useMay('settle', hosts.length === 0 ? wholeFleet : roles)
  const mayWatch = useMay('read', wholeFleet) // waves may be at hosts of any role
  const head = useFleetHead()
  const start = useStartWave()
  const go = useNavigate()
  const id = useId()
  const [sizes, setSizes] = useState('')
  const [between, setBetween] = useState(false)
  const [skip, setSkip] = useState(false)
  if (!may || !head.data || head.data.revision === 0) return null
  const chosen = sizes.split(/[\s,]+/).filter((s) => s !== '')
  const one = hosts.length === 1 // which has no steps
  const what = hosts.length === 0 ? 'the whole fleet' : hosts.length < 4 ? hosts.join(', ') : counted(hosts.length, 'host')
  return (
    <Deed
      name={name ?? (hosts.length === 0 ? 'Start a wave' : `Start a wave over ${counted(hosts.length, 'host')}`)}
      look="main"
      icon={<Ship className="size-4" aria-hidden />}
      reason="asked"
      consequence={
        <>
          <p>
            Revision {head.data.revision} is put in force on {what}
            {one ? '' : `, step by step: ${sizes.trim() === '' ? 'one host of each role, then a tenth, then all' : sizes}`}.
          </p>
          <p>{one ? 'The host' : 'Each host'} keeps the new rules only if a new connection to it succeeds. Otherwise the host goes back to its old rules{one ? '' : ', and the wave stops'}.</p>
          <p className="text-faint">Undo: stop the wave, or roll back what it changed.</p>
        </>
      }
      more={
        <>
          {!one && (
            <>
              <Field id={`${id}-sizes`} label="Steps" value={sizes} onChange={setSizes} hint="how many hosts are settled by the end of each: 1, 10%, 100%. Nothing written: as above" />
              <WavePlan hosts={hosts} sizes={chosen} />
              <Choice says="wait after each step until somebody says to go on" on={between} set={setBetween} />
            </>
          )}
          <Choice says={`skip the connection tests after ${one ? 'the change' : 'each step'}`} on={skip} set={setSkip} />
        </>
      }
      run={(why) =>
        start.mutateAsync({
          hosts,
          why,
          pause_between: between,
          skip_probes: skip,
          ...(chosen.length > 0 && { sizes: chosen }),
        })
      }
      onDone={() => {
        if (mayWatch) void go('/waves')
      }}
    />
  )
}

function Choice({ says, on, set }: { says: string; on: boolean; set: (on: boolean) => void }) {
  return (
    <label className="mt-2 flex items-center gap-2 text-sm">
      <input
        type="checkbox"
        checked={on}
        onChange={() => {
          set(!on)
        }}
      />
      {says}
    </label>
  )
}
