// Small things that several pages show.
import { BellOff, CircleCheck, CircleDashed, CircleHelp, CircleX, Clock, Ghost, Hourglass, PauseCircle, ShieldOff, TriangleAlert, Undo2, type LucideIcon } from 'lucide-react'
import { useEffect, useState, type ReactNode } from 'react'

import type { State } from '../api'
import { stateNotes } from '../api/states.gen'

const icons: Record<State, LucideIcon> = {
  bare: ShieldOff,
  paused: PauseCircle,
  failed: CircleX,
  'went back': Undo2,
  drifted: TriangleAlert,
  unread: CircleHelp,
  silent: BellOff,
  waiting: Clock,
  behind: Hourglass,
  new: CircleDashed,
  others: Ghost,
  'in step': CircleCheck,
}

const looks = { bad: 'bg-bad-wash text-bad', care: 'bg-care-wash text-care', good: 'bg-good-wash text-good', plain: 'bg-sunk text-faint' }

/** How each state looks and what it means. The worst comes first. */
export const states = stateNotes.map((note) => ({ ...note, icon: icons[note.state], look: looks[note.tone] }))

export function StateBadge({ state }: { state: State }) {
  const known = states.find((s) => s.state === state)
  const Icon = known?.icon ?? CircleHelp
  return (
    <span title={known?.means} className={`inline-flex items-center gap-1.5 rounded-full px-2.5 py-0.5 text-sm font-medium whitespace-nowrap ${known?.look ?? ''}`}>
      <Icon className="size-3.5" aria-hidden />
      {state}
    </span>
  )
}

export function Loading({ what }: { what: string }) {
  return <p className="p-10 text-center text-faint">Loading {what} …</p>
}

export function Failure({ error }: { error: Error }) {
  return (
    <div role="alert" className="mx-auto my-10 max-w-xl rounded-lg border border-bad bg-bad-wash p-5 text-bad">
      <p className="font-semibold">This did not work</p>
      <p>{error.message}</p>
    </div>
  )
}

export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="rounded-lg border border-dashed border-line p-10 text-center">
      <p className="font-semibold">{title}</p>
      <p className="text-faint">{children}</p>
    </div>
  )
}

export function Mono({ children }: { children: ReactNode }) {
  return <code className="font-mono text-[0.86em]">{children}</code>
}

const relative = new Intl.RelativeTimeFormat('en', { numeric: 'auto' })

/** The time, again every few seconds, so that what is said of it stays true. */
function useNow() {
  const [now, setNow] = useState(() => Date.now())
  useEffect(() => {
    const timer = setInterval(() => {
      setNow(Date.now())
    }, 5000)
    return () => {
      clearInterval(timer)
    }
  }, [])
  return now
}

const units = [
  ['day', 86400],
  ['hour', 3600],
  ['minute', 60],
] as const

/** A time as "3 minutes ago", with the exact time on hover; ahead is for times to come. */
export function Ago({ time, ahead = false }: { time: string | undefined; ahead?: boolean }) {
  const now = useNow()
  if (!time) return <span className="text-faint">never</span>
  const apart = (new Date(time).getTime() - now) / 1000
  const seconds = ahead ? apart : Math.min(0, apart)
  const [unit, size] = units.find(([, n]) => Math.abs(seconds) >= n) ?? (['second', 1] as const)
  return (
    <time dateTime={time} title={new Date(time).toLocaleString()}>
      {relative.format(Math.round(seconds / size), unit)}
    </time>
  )
}
