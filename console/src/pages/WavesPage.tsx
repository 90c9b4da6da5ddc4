// Waves: how a revision is put in force over the fleet, step by step.
import { CircleCheck, CircleDashed, CircleX, Clock, Loader, Undo2, UserRound, type LucideIcon } from 'lucide-react'
import { useState } from 'react'
import { Link } from 'react-router'

import { useMay } from '../api/session'
import { useTellWave, useWave, useWaves, type Wave, type WaveHost } from '../api/waves'
import { Ago, Empty, Failure, Heading, Loading, counted } from '../components/basics'
import { AsCommand } from '../components/Button'
import { Deed } from '../components/Deed'
import { StartWave } from '../components/StartWave'

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

const looks: Record<Wave['state'], string> = {
  running: 'bg-care-wash text-care',
  waiting: 'bg-care-wash text-care',
  done: 'bg-good-wash text-good',
  stopped: 'bg-bad-wash text-bad',
}

export default function WavesPage() {
  const waves = useWaves()
  if (waves.isPending) return <Loading what="the waves" />
  if (waves.error) return <Failure error={waves.error} />
  const list = waves.data.waves
  return (
    <>
      <Heading title="Waves">
        <span className="ml-auto flex flex-wrap items-center gap-2">
          <AsCommand command="yfence waves" />
          <StartWave hosts={[]} />
        </span>
      </Heading>
      {list.length === 0 && <Empty title="No wave yet">A wave puts what is published in force on the hosts, a few at first.</Empty>}
      <div className="flex flex-col gap-5">
        {list.map((w, i) => (
          <WaveCard key={w.number} wave={w} whole={i < shown || w.state === 'running' || w.state === 'waiting'} />
        ))}
      </div>
    </>
  )
}

/** How many waves, the newest, show their hosts at once. */
const shown = 3

function WaveCard({ wave, whole }: { wave: Wave; whole: boolean }) {
  const [asked, ask] = useState(false)
  const detail = useWave(wave.number, whole || asked)
  const w = detail.data ?? wave
  const steps = [...new Set(w.hosts.map((h) => h.step))].sort((a, b) => (a || Infinity) - (b || Infinity))
  return (
    <section id={`wave-${String(w.number)}`} aria-label={`Wave ${String(w.number)}`} className="scroll-mt-16 rounded-board border border-line bg-board">
      <header className="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b border-line px-5 py-3">
        <h2 className="text-lg font-semibold">
          Wave {w.number}, revision {w.revision}
        </h2>
        <span className={`rounded-full px-2.5 py-0.5 text-sm font-medium ${looks[w.state]}`}>{w.state}</span>
        <span className="text-sm text-faint">
          step {w.step} of {w.steps}, begun <Ago time={w.began} /> by {w.by}
          {w.why !== undefined && <>: {w.why}</>}
          {w.held !== undefined && w.held > 0 && <>; {w.held} connections came out as the policy says</>}
        </span>
        <Words wave={w} />
      </header>
      {w.stopped !== undefined && (
        <p role="status" className="border-b border-line bg-bad-wash px-5 py-3 text-bad">
          <span className="font-semibold">It stopped:</span> {w.stopped}
        </p>
      )}
      {w.state === 'waiting' && <p className="border-b border-line bg-care-wash px-5 py-3 text-care">It waits after this step until whoever began it says that all is well.</p>}
      {detail.error && <Failure error={detail.error} />}
      {w.hosts.length === 0 && (
        <p className="flex flex-wrap items-baseline gap-x-4 px-5 py-3 text-sm text-faint">
          {Object.entries(w.counts ?? {})
            .map(([phase, n]) => `${String(n)} ${phase}`)
            .join(', ')}
          {!whole && !asked && (
            <button type="button" className="font-medium underline underline-offset-2" onClick={() => { ask(true) }}>
              show the hosts
            </button>
          )}
        </p>
      )}
      {steps.map((step) => (
        <div key={step} className="grid gap-x-4 px-5 py-3 sm:grid-cols-[7rem_1fr]">
          <p className="text-sm font-medium text-faint">{step === 0 ? 'left out' : `step ${String(step)}`}</p>
          <ul className="flex flex-col gap-1">
            {w.hosts
              .filter((h) => h.step === step)
              .map((h) => (
                <HostLine key={`${h.name}@${h.cloud ?? ''}`} host={h} />
              ))}
          </ul>
        </div>
      ))}
      <Shown wave={w} />
    </section>
  )
}

/** What can be said to a wave now. */
function Words({ wave: w }: { wave: Wave }) {
  const may = useMay('settle')
  const tell = useTellWave(w.number)
  if (!may) return null
  const kept = w.hosts.filter((h) => h.phase === 'kept').length || (w.counts?.kept ?? 0)
  const open = w.state === 'running' || w.state === 'waiting'
  return (
    <span className="no-print ml-auto flex gap-2">
      {w.state === 'waiting' && (
        <Deed
          name="Go on"
          look="main"
          consequence={
            <p>
              Step {w.step + 1} of {w.steps} begins. Undo: stop the wave.
            </p>
          }
          run={() => tell.mutateAsync({ word: 'go-on', why: '' })}
        />
      )}
      {open && <Deed name="Stop" look="bad" reason="asked" consequence={<p>No more hosts are asked. Changes that are not kept yet are undone; what is kept stays, and can be put back afterwards.</p>} run={(why) => tell.mutateAsync({ word: 'stop', why })} />}
      {!open && kept > 0 && (
        <Deed
          name="Roll back"
          consequence={
            <p>
              A new wave gives {counted(kept, 'host')} the rules that were in force before wave {w.number}. Each host keeps them only if a new connection to it succeeds.
            </p>
          }
          run={() => tell.mutateAsync({ word: 'return', why: '' })}
        />
      )}
    </span>
  )
}

/** What real connections showed of what the wave changed, and what could not be tried. */
function Shown({ wave: w }: { wave: Wave }) {
  const proofs = w.proofs ?? []
  const left = w.left ?? []
  const untried = w.state === 'done' && !w.held && !w.skip_probes && w.hosts.length > 0
  if (proofs.length === 0 && left.length === 0 && !untried) return null
  return (
    <div className="grid gap-x-4 border-t border-line px-5 py-3 sm:grid-cols-[7rem_1fr]">
      <p className="text-sm font-medium text-faint">shown</p>
      <ul className="flex flex-col gap-1 text-sm">
        {proofs.map((p) => (
          <li key={p.statement}>
            <span className="font-medium">{p.statement}</span> <span className="text-faint">({p.change})</span>
            {p.passed && <span className="block text-good">passes: {p.passed}</span>}
            {p.refused && <span className="block text-good">is refused: {p.refused}</span>}
          </li>
        ))}
        {left.map((l) => (
          <li key={l} className="text-faint">
            not tried: {l}
          </li>
        ))}
        {untried && <li className="text-care">No connection was tried: nothing but the ways in shows that what is in force is as the policy says.</li>}
      </ul>
    </div>
  )
}

function HostLine({ host: h }: { host: WaveHost }) {
  const { icon: Icon, look } = phases[h.phase]
  return (
    <li className="grid items-baseline gap-x-4 sm:grid-cols-[9rem_7rem_1fr]">
      <Link to={`/hosts/${h.name}`} className="font-medium underline-offset-2 hover:underline">
        {h.name}
        {h.cloud && <span className="font-normal text-faint">@{h.cloud}</span>}
      </Link>
      <span className={`flex items-center gap-1.5 text-sm font-medium ${look}`}>
        <Icon className="size-3.5 self-center" aria-hidden />
        {h.phase}
      </span>
      <span className="text-sm text-faint">
        {h.why}
        {(h.said ?? []).map((s) => (
          <span key={s} className="block">
            {s}
          </span>
        ))}
      </span>
    </li>
  )
}
