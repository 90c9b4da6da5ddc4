// The steps of a wave as columns; hosts move down in them, from due to kept.
import { CircleCheck, CircleDashed, CircleX, Clock, Loader, Undo2, UserRound, type LucideIcon } from 'lucide-react'
import { useState } from 'react'
import { Link } from 'react-router'

import type { Wave, WaveHost } from '../../api/waves'
import { Wide, count, counted } from '../../components/basics'

const phases: Record<WaveHost['phase'], { icon: LucideIcon; look: string }> = {
  due: { icon: CircleDashed, look: 'text-faint' },
  asked: { icon: Loader, look: 'text-care' },
  'in force': { icon: Clock, look: 'text-care' },
  probed: { icon: Loader, look: 'text-care' },
  keeping: { icon: Loader, look: 'text-care' },
  kept: { icon: CircleCheck, look: 'text-good' },
  'went back': { icon: Undo2, look: 'text-bad' },
  failed: { icon: CircleX, look: 'text-bad' },
  absent: { icon: UserRound, look: 'text-faint' },
}

/** The rows, from top to bottom: which phases stand in each, and what it means. */
const lanes: { name: string; phases: WaveHost['phase'][]; means: string }[] = [
  { name: 'due', phases: ['due'], means: 'not asked yet' },
  { name: 'asked', phases: ['asked'], means: 'asked to put the rules in force' },
  { name: 'in force', phases: ['in force', 'probed', 'keeping'], means: 'in force, but undone unless a new connection gets in' },
  { name: 'kept', phases: ['kept'], means: 'in force for good' },
  { name: 'went back', phases: ['went back', 'failed'], means: 'the earlier rules are in force' },
  { name: 'left out', phases: ['absent'], means: 'no agent there asks for tasks' },
]

/** How many hosts a cell shows at first, and at most. */
const few = 24
const most = 400

export function Steps({ wave: w }: { wave: Wave }) {
  const steps = [...new Set(w.hosts.map((h) => h.step))].sort((a, b) => (a || Infinity) - (b || Infinity))
  const used = lanes.filter((lane) => w.hosts.some((h) => lane.phases.includes(h.phase)))
  return (
    <>
      <Wide name={`Steps of wave ${String(w.number)}`} className="px-5 py-3">
        <table className="border-separate border-spacing-0 text-sm">
          <thead>
            <tr>
              <td className="sticky left-0 bg-board" />
              {steps.map((step) => (
                <th key={step} scope="col" aria-current={step === w.step && w.state !== 'done' ? 'step' : undefined} className={`min-w-40 border-b-2 px-3 py-1 text-left ${step === w.step && w.state !== 'done' ? 'border-fence' : 'border-line text-faint'}`}>
                  {step === 0 ? 'no step' : `step ${String(step)}`}
                  <span className="ml-2 font-normal text-faint">{counted(w.hosts.filter((h) => h.step === step).length, 'host')}</span>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {used.map((lane) => (
              <tr key={lane.name}>
                <th scope="row" className="sticky left-0 max-w-40 border-b border-line bg-board py-2 pr-4 text-left align-top font-medium">
                  {lane.name}
                  <span className="block text-xs font-normal text-faint">{lane.means}</span>
                </th>
                {steps.map((step) => (
                  <td key={step} className="border-b border-line px-3 py-2 align-top">
                    <Cell hosts={w.hosts.filter((h) => h.step === step && lane.phases.includes(h.phase))} />
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </Wide>
      <Told hosts={w.hosts} />
    </>
  )
}

function Cell({ hosts }: { hosts: WaveHost[] }) {
  const [whole, setWhole] = useState(false)
  const seen = hosts.slice(0, whole ? most : few)
  if (hosts.length === 0) return null
  return (
    <>
      <ul className="flex flex-col gap-0.5">
        {seen.map((h) => {
          const { icon: Icon, look } = phases[h.phase]
          return (
            <li key={`${h.name}@${h.cloud ?? ''}`}>
              <Link to={`/hosts/${h.name}`} title={[h.phase, h.why].filter(Boolean).join(': ')} className="inline-flex items-center gap-1.5 whitespace-nowrap underline-offset-2 hover:underline">
                <Icon className={`size-3.5 ${look}`} aria-label={h.phase} />
                {h.name}
                {h.cloud && <span className="text-faint">@{h.cloud}</span>}
              </Link>
            </li>
          )
        })}
      </ul>
      {hosts.length > seen.length &&
        (whole ? (
          <p className="text-faint">and {count(hosts.length - seen.length)} more</p>
        ) : (
          <button
            type="button"
            className="font-medium underline underline-offset-2"
            onClick={() => {
              setWhole(true)
            }}
          >
            {count(hosts.length - seen.length)} more
          </button>
        ))}
    </>
  )
}

/** What hosts said: those that did not keep their change at once, the others when asked for. */
function Told({ hosts }: { hosts: WaveHost[] }) {
  const told = hosts.filter((h) => h.why !== undefined || (h.said ?? []).length > 0)
  const wrong = told.filter((h) => ['went back', 'failed', 'absent'].includes(h.phase))
  const fine = told.filter((h) => !wrong.includes(h))
  if (told.length === 0) return null
  return (
    <div className="border-t border-line px-5 py-3 text-sm">
      <Lines hosts={wrong} />
      {fine.length > 0 && (
        <details>
          <summary className="cursor-pointer text-faint">How the way in was proven, host by host ({count(fine.length)})</summary>
          <Lines hosts={fine} />
        </details>
      )}
    </div>
  )
}

function Lines({ hosts }: { hosts: WaveHost[] }) {
  return (
    <ul className="flex flex-col gap-1">
      {hosts.slice(0, most).map((h) => (
        <li key={`${h.name}@${h.cloud ?? ''}`} className="grid items-baseline gap-x-4 sm:grid-cols-[9rem_6rem_1fr]">
          <Link to={`/hosts/${h.name}`} className="font-medium underline-offset-2 hover:underline">
            {h.name}
          </Link>
          <span className={phases[h.phase].look}>{h.phase}</span>
          <span className="text-faint">
            {h.why}
            {(h.said ?? []).map((s) => (
              <span key={s} className="block">
                {s}
              </span>
            ))}
          </span>
        </li>
      ))}
    </ul>
  )
}
