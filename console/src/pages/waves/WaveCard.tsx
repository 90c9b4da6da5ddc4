// One wave: where it is, what it says, its steps with their hosts, and what connections showed.
import { useState } from 'react'

import { useWave, type Wave } from '../../api/waves'
import { Ago, Failure } from '../../components/basics'
import { Shown } from './Shown'
import { Steps } from './Steps'
import { TimeLeft } from './TimeLeft'
import { Words } from './Words'

const looks: Record<Wave['state'], string> = {
  running: 'bg-care-wash text-care',
  waiting: 'bg-care-wash text-care',
  done: 'bg-good-wash text-good',
  stopped: 'bg-bad-wash text-bad',
  planned: 'bg-sunk text-faint',
}

export function WaveCard({ wave, whole }: { wave: Wave; whole: boolean }) {
  const [asked, ask] = useState(false)
  const detail = useWave(wave.number, whole || asked)
  const w = detail.data ?? wave
  return (
    <section id={`wave-${String(w.number)}`} aria-label={`Wave ${String(w.number)}`} className="scroll-mt-16 rounded-board border border-line bg-board">
      <header className="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b border-line px-5 py-3">
        <h2 className="text-lg font-semibold">
          Wave {w.number}, revision {w.revision}
        </h2>
        <span className={`rounded-full px-2.5 py-0.5 text-sm font-medium ${looks[w.state]}`}>{w.state}</span>
        <span className="text-sm text-faint">
          step {w.step} of {w.steps}
          <TimeLeft wave={w} />, begun <Ago time={w.began} /> by {w.by}
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
      {w.hosts.length > 0 && <Steps wave={w} />}
      <Shown wave={w} />
    </section>
  )
}

