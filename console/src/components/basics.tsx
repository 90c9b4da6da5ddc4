// Small things that every page shows.
import { BellOff, CircleCheck, CircleDashed, CircleHelp, CircleX, Clock, Ghost, Hourglass, PauseCircle, ShieldOff, TriangleAlert, Undo2, type LucideIcon } from 'lucide-react'
import { useEffect, useSyncExternalStore, type ReactNode } from 'react'

import type { State } from '../api/fleet'
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
  return (
    <p role="status" className="p-10 text-center text-faint">
      Loading {what} …
    </p>
  )
}

/** The head of a page: its name, and beside it what belongs to all of it. */
export function Heading({ title, children }: { title: string; children?: ReactNode }) {
  useEffect(() => {
    document.title = `${title} · Yellow Fence`
  }, [title])
  return (
    <div className="mb-4 flex flex-wrap items-center gap-x-4 gap-y-2">
      <h1 className="text-2xl font-semibold tracking-tight">{title}</h1>
      {children}
    </div>
  )
}

/** What may be wider than its place, and is scrolled there. */
export function Wide({ name, children, className = '' }: { name: string; children: ReactNode; className?: string }) {
  return (
    <div tabIndex={0} role="region" aria-label={name} className={`overflow-auto ${className}`}>
      {children}
    </div>
  )
}

/** A board that something stands on, with a head of its own. */
export function Board({ title, beside, children }: { title: string; beside?: ReactNode; children: ReactNode }) {
  return (
    <section aria-label={title} className="rounded-board border border-line bg-board">
      <header className="flex flex-wrap items-baseline gap-x-3 border-b border-line px-4 py-2">
        <h2 className="font-semibold">{title}</h2>
        {beside}
      </header>
      {children}
    </section>
  )
}

export function Failure({ error }: { error: Error }) {
  return (
    <div role="alert" className="mx-auto my-10 max-w-xl rounded-board border border-bad bg-bad-wash p-5 text-bad">
      <p className="font-semibold">This did not work</p>
      <p>{error.message}</p>
    </div>
  )
}

export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="rounded-board border border-dashed border-line p-10 text-center">
      <p className="font-semibold">{title}</p>
      <p className="text-faint">{children}</p>
    </div>
  )
}

export function Mono({ children }: { children: ReactNode }) {
  return <code className="font-mono text-[0.86em]">{children}</code>
}

// Sentences are English; dates and numbers are as the reader's system writes them.
const relative = new Intl.RelativeTimeFormat('en', { numeric: 'auto' })
const figures = new Intl.NumberFormat()

/** A number as the reader writes it. */
export const count = (n: number) => figures.format(n)

/** A number with what it counts: 1 host, 1,200 hosts. */
export const counted = (n: number, one: string, many = `${one}s`) => `${count(n)} ${n === 1 ? one : many}`

// One clock for all that says how long ago something was: a table has hundreds of them.
const hearers = new Set<() => void>()
let clock = Date.now()
let ticking: ReturnType<typeof setInterval> | undefined

function hear(hearer: () => void) {
  hearers.add(hearer)
  if (ticking === undefined) clock = Date.now()
  ticking ??= setInterval(() => {
    clock = Date.now()
    for (const each of hearers) each()
  }, 5000)
  return () => {
    hearers.delete(hearer)
    if (hearers.size > 0) return
    clearInterval(ticking)
    ticking = undefined
  }
}

/** The time, again every few seconds, so that what is said of it stays true. */
export const useNow = () => useSyncExternalStore(hear, () => clock)

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
