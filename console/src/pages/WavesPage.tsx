// Waves: how a revision is put in force over the fleet, step by step.
import { useWaves } from '../api/waves'
import { Empty, Failure, Heading, Loading } from '../components/basics'
import { AsCommand } from '../components/Button'
import { StartWave } from '../components/StartWave'
import { WaveCard } from './waves/WaveCard'

/** How many waves, the newest, show their hosts at once. */
const shown = 3

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

