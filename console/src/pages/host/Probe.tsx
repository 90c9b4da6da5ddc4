// Real connections to a host: what comes of each, beside what the policy says of it.
import { CircleCheck, CircleHelp, CircleX } from 'lucide-react'
import { useState } from 'react'

import type { Schemas } from '../../api/client'
import { useProbe } from '../../api/hosts'
import { useMay } from '../../api/session'
import { Empty, Failure, Mono } from '../../components/basics'
import { AsCommand, Button } from '../../components/Button'
import { Field } from '../../components/Deed'

const agreements: Record<Schemas['ProbeResult']['agrees'], { icon: typeof CircleCheck; look: string; says: string }> = {
  yes: { icon: CircleCheck, look: 'text-good', says: 'as the policy says' },
  no: { icon: CircleX, look: 'text-bad', says: 'not as the policy says' },
  open: { icon: CircleHelp, look: 'text-care', says: 'not clear: perhaps nothing listens there' },
}

export function Probe({ host }: { host: string }) {
  const may = useMay('settle')
  const probe = useProbe()
  const [from, setFrom] = useState('')
  const [service, setService] = useState('ssh')
  const [listen, setListen] = useState(false)
  if (!may) return <Empty title="You may not open connections">That takes the right settle for the whole fleet.</Empty>
  const question = `${from.trim()} -> ${host} : ${service.trim()}`
  return (
    <section aria-label="Real connections" className="flex flex-col gap-4">
      <p className="text-faint">Another host opens a real connection to this one, and closes it again. Nothing is sent over it.</p>
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(event) => {
          event.preventDefault()
          probe.mutate({ question, listen })
        }}
      >
        <Field id="probe-from" label="From a host or a role" value={from} onChange={setFrom} />
        <Field id="probe-service" label="Service" value={service} onChange={setService} />
        <label className="flex items-center gap-2 pb-2 text-sm">
          <input
            type="checkbox"
            checked={listen}
            onChange={(event) => {
              setListen(event.target.checked)
            }}
          />
          listen there meanwhile, if nothing does
        </label>
        <Button type="submit" look="main" disabled={probe.isPending || from.trim() === '' || service.trim() === ''}>
          {probe.isPending ? 'Trying …' : 'Open a connection'}
        </Button>
      </form>
      {from.trim() !== '' && <AsCommand command={`yfence probe '${question}'${listen ? ' --listen' : ''}`} />}
      {probe.error && <Failure error={probe.error} />}
      {probe.data && (
        <ul className="divide-y divide-line rounded-board border border-line bg-board" aria-label="What came of it">
          {probe.data.probes.map((p) => {
            const { icon: Icon, look, says } = agreements[p.agrees]
            return (
              <li key={`${p.from} ${p.address} ${p.service}`} className="flex flex-wrap items-baseline gap-x-4 px-5 py-2">
                <Mono>
                  {p.from} → {p.address} : {p.service}
                </Mono>
                <span>
                  {p.came}; the policy says {p.policy}
                </span>
                <span className={`flex items-center gap-1.5 text-sm font-medium ${look}`}>
                  <Icon className="size-3.5 self-center" aria-hidden />
                  {says}
                </span>
                {p.why !== undefined && <span className="text-sm text-faint">{p.why}</span>}
              </li>
            )
          })}
          {(probe.data.left ?? []).map((l) => (
            <li key={l} className="px-5 py-2 text-faint">
              not tried: {l}
            </li>
          ))}
        </ul>
      )}
    </section>
  )
}
