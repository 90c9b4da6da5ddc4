// Starting a wave: what it will do is said before.
import { Ship } from 'lucide-react'
import { useId, useState } from 'react'
import { useNavigate } from 'react-router'

import { useFleetHead } from '../api/fleet'
import { useMay } from '../api/session'
import { useStartWave } from '../api/waves'
import { Deed, Field } from './Deed'
import { counted } from './basics'

/** Starts a wave over some hosts, or over the whole fleet where none are named. */
export function StartWave({ hosts, name }: { hosts: string[]; name?: string }) {
  const may = useMay('settle')
  const head = useFleetHead()
  const start = useStartWave()
  const go = useNavigate()
  const id = useId()
  const [sizes, setSizes] = useState('')
  const [between, setBetween] = useState(false)
  const [skip, setSkip] = useState(false)
  if (!may || !head.data || head.data.revision === 0) return null
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
            Revision {head.data.revision} is put in force on {what}, step by step: {sizes.trim() === '' ? 'one host of each role, then a tenth, then all' : sizes}.
          </p>
          <p>Each host keeps the new rules only if a new connection to it succeeds. Otherwise the host goes back to its old rules, and the wave stops.</p>
          <p className="text-faint">Undo: stop the wave, or roll back what it changed.</p>
        </>
      }
      more={
        <>
          <Field id={`${id}-sizes`} label="Steps" value={sizes} onChange={setSizes} hint="how many hosts are settled by the end of each: 1, 10%, 100%. Nothing written: as above" />
          <label className="mt-3 flex items-center gap-2 text-sm">
            <input
              type="checkbox"
              checked={between}
              onChange={() => {
                setBetween(!between)
              }}
            />
            wait after each step until somebody says to go on
          </label>
          <label className="mt-1.5 flex items-center gap-2 text-sm">
            <input
              type="checkbox"
              checked={skip}
              onChange={() => {
                setSkip(!skip)
              }}
            />
            skip the connection tests after each step
          </label>
        </>
      }
      run={(why) =>
        start.mutateAsync({
          hosts,
          why,
          pause_between: between,
          skip_probes: skip,
          ...(sizes.trim() !== '' && { sizes: sizes.split(/[\s,]+/).filter((s) => s !== '') }),
        })
      }
      onDone={() => {
        void go('/waves')
      }}
    />
  )
}
