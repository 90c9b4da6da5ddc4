// The steps of a wave that is about to begin: which hosts each would settle.
import { useWavePlan } from '../api/waves'
import { counted } from './basics'

/** How many hosts of a step are named. */
const few = 6

export function WavePlan({ hosts, sizes }: { hosts: string[]; sizes: string[] }) {
  const plan = useWavePlan(hosts, sizes)
  if (plan.isPending) return <p className="text-sm text-faint">Working out the steps …</p>
  if (plan.error) return <p className="text-sm text-bad">{plan.error.message}</p>
  const steps = [...new Set(plan.data.hosts.map((h) => h.step))].sort((a, b) => (a || Infinity) - (b || Infinity))
  return (
    <ol aria-label="Steps of the wave" className="mt-3 max-h-56 overflow-y-auto rounded-plank bg-sunk px-3 py-2 text-sm">
      {steps.map((step) => {
        const names = [...new Set(plan.data.hosts.filter((h) => h.step === step).map((h) => h.name))]
        return (
          <li key={step}>
            <span className="font-medium">{step === 0 ? 'left out' : `step ${String(step)}`}</span>{' '}
            <span className="text-faint">
              {counted(names.length, 'host')}: {names.slice(0, few).join(', ')}
              {names.length > few && ' …'}
              {step === 0 && '. No agent there asks for tasks.'}
            </span>
          </li>
        )
      })}
    </ol>
  )
}
