// How long a wave will still take, as far as its steps so far tell.
import { useNow } from '../../components/basics'
import type { Wave } from '../../api/waves'

const length = new Intl.NumberFormat('en', { style: 'unit', unit: 'minute', unitDisplay: 'long' })
const short = new Intl.NumberFormat('en', { style: 'unit', unit: 'second', unitDisplay: 'long' })

/** Nothing is known before a step has ended, or while somebody has to say "go on". */
export function TimeLeft({ wave: w }: { wave: Wave }) {
  const now = useNow()
  if (w.state !== 'running' || w.pause_between) return null
  if (w.step < 2) return <>, each host has {w.within} to keep its change</>
  const seconds = ((now - new Date(w.began).getTime()) / 1000 / (w.step - 1)) * (w.steps - w.step + 1)
  return <>, about {seconds < 90 ? short.format(Math.max(1, Math.round(seconds))) : length.format(Math.round(seconds / 60))} left</>
}
