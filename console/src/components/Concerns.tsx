// What needs a person now, the most urgent first.
import { CircleAlert, CircleCheck, TriangleAlert } from 'lucide-react'
import { Link } from 'react-router'

import { useAttention, type Concern } from '../api/fleet'
import { Board, Failure, Loading, counted } from './basics'
import { useCalm } from './calm'

/** How many are shown before one asks for more. */
const first = 8

/** Where a concern is looked at. */
function place(c: Concern): string {
  switch (c.kind) {
    case 'wave':
      return `/waves#wave-${c.on ?? ''}`
    case 'proposal':
      return `/proposals/${c.on ?? ''}`
    case 'cloud':
      return `/clouds#${c.on ?? ''}`
    case 'list':
    case 'delivery':
      return '/settings'
    default: {
      const only = c.count === 1 ? c.hosts?.[0] : undefined
      if (only !== undefined) return `/hosts/${only}`
      return c.state === undefined ? '/fleet?state=drifted' : `/fleet?state=${encodeURIComponent(c.state)}`
    }
  }
}

export function Concerns() {
  const attention = useAttention()
  const calm = useCalm(attention.data)
  if (attention.isPending) return <Loading what="what needs you" />
  if (attention.error) return <Failure error={attention.error} />
  const told = calm.shown ?? attention.data
  const list = told.concerns
  return (
    <div {...calm.hold}>
      <Board
        title="Needs a person now"
        beside={
          calm.waits && (
            <button type="button" className="text-sm font-medium underline" onClick={calm.show}>
              something changed: show it
            </button>
          )
        }
      >
        {list.length === 0 && (
          <p className="flex items-center gap-2 p-4 text-good">
            <CircleCheck className="size-4" aria-hidden /> Nothing. The fleet does what the policy says.
          </p>
        )}
        <ul className="divide-y divide-line">
          {list.slice(0, first).map((c) => (
            <Line key={`${c.kind} ${c.on ?? ''} ${c.state ?? ''} ${c.says}`} concern={c} />
          ))}
        </ul>
        {list.length > first && (
          <details className="border-t border-line">
            <summary className="cursor-pointer px-4 py-2 text-sm font-medium">{counted(list.length - first + (told.more ?? 0), 'more', 'more')}</summary>
            <ul className="divide-y divide-line border-t border-line">
              {list.slice(first).map((c) => (
                <Line key={`${c.kind} ${c.on ?? ''} ${c.state ?? ''} ${c.says}`} concern={c} />
              ))}
            </ul>
          </details>
        )}
        {told.reading !== undefined && <p className="border-t border-line px-4 py-2 text-sm text-faint">The last reports of {counted(told.reading, 'host')} are being read.</p>}
      </Board>
    </div>
  )
}

function Line({ concern: c }: { concern: Concern }) {
  const Icon = c.tone === 'bad' ? CircleAlert : TriangleAlert
  return (
    <li>
      <Link to={place(c)} className="block px-4 py-2.5 hover:bg-sunk">
        <span className={`flex items-baseline gap-2 ${c.tone === 'bad' ? 'text-bad' : 'text-care'}`}>
          <Icon className="size-4 shrink-0 self-center" aria-hidden />
          <span className="text-sm font-semibold">{c.kind === 'state' ? c.state : c.kind}</span>
          {c.count !== undefined && <span className="ml-auto text-sm text-faint">{c.count === 1 ? c.hosts?.[0] : counted(c.count, 'host')}</span>}
        </span>
        <span className="mt-0.5 block">{c.says}</span>
      </Link>
    </li>
  )
}
