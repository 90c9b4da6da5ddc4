// The rows of the fleet that are in sight, each from the part of the fleet that it is in.
import { useVirtualizer } from '@tanstack/react-virtual'
import { ArrowDown, ArrowUp, ChevronsUpDown } from 'lucide-react'
import { memo, useCallback, useDeferredValue, useRef, type Dispatch, type SetStateAction } from 'react'
import { Link } from 'react-router'

import { part, useFleetParts, type HostStatus, type Wanted } from '../../api/fleet'
import { Ago, Failure, Loading, Mono, StateBadge, count, counted } from '../../components/basics'
import { useStill } from './still'

const row = 42 // pixels: all rows are alike, so that any of them can be scrolled to at once

const columns: { id: Wanted['sort'] | 'addresses'; name: string; hide?: string }[] = [
  { id: 'name', name: 'Host' },
  { id: 'roles', name: 'Roles', hide: 'hidden md:block' },
  { id: 'state', name: 'State' },
  { id: 'findings', name: 'Findings', hide: 'hidden sm:block' },
  { id: 'in_force', name: 'In force', hide: 'hidden lg:block' },
  { id: 'heard', name: 'Last report', hide: 'hidden lg:block' },
  { id: 'addresses', name: 'Addresses', hide: 'hidden xl:block' },
]
const grid = 'grid grid-cols-[2.25rem_minmax(0,1.4fr)_minmax(0,1.2fr)] sm:grid-cols-[2.25rem_minmax(0,1.4fr)_minmax(0,1.2fr)_7rem] md:grid-cols-[2.25rem_minmax(0,1.3fr)_minmax(0,1fr)_minmax(0,1.4fr)_7rem] lg:grid-cols-[2.25rem_minmax(0,1.2fr)_minmax(0,1fr)_minmax(0,1.6fr)_6.5rem_7rem_8rem] xl:grid-cols-[2.25rem_minmax(0,1.2fr)_minmax(0,1fr)_minmax(0,1.8fr)_6.5rem_7rem_8rem_minmax(0,1.5fr)] items-center gap-x-3 px-3'

interface Does {
  wanted: Wanted
  want: (change: Partial<Wanted>) => void
  chosen: ReadonlySet<string>
  choose: Dispatch<SetStateAction<ReadonlySet<string>>>
}

export function FleetTable({ wanted, want, chosen, choose }: Does) {
  const scroll = useRef<HTMLDivElement>(null)
  const [first] = useFleetParts(wanted, [0])
  const total = first?.data?.total ?? 0
  const rows = useVirtualizer({ count: total, getScrollElement: () => scroll.current, estimateSize: () => row, overscan: 8, useFlushSync: false })
  const items = rows.getVirtualItems()
  // Rows that come into sight in a hurry say a name at first: all of their cells follow when there is time.
  const top = items[0]?.index ?? 0
  const settled = useDeferredValue(top)
  const whole = (index: number) => index >= settled && index < settled + items.length
  const numbers = [...new Set(items.map((i) => Math.floor(i.index / part)))]
  const parts = useFleetParts(wanted, numbers)
  const latest = new Map(numbers.map((n, i) => [n, parts[i]?.data?.hosts ?? []]))
  const { found, waits, show, hold } = useStill(wanted, latest)
  const toggle = useCallback(
    (name: string) => {
      choose((before) => {
        const next = new Set(before)
        if (!next.delete(name)) next.add(name)
        return next
      })
    },
    [choose],
  )
  const failed = first?.error ?? parts.find((p) => p.error)?.error
  if (failed) return <Failure error={failed} />
  if (!first?.data) return <Loading what="the fleet" />
  const inSight = items.flatMap((i) => found.get(Math.floor(i.index / part))?.[i.index % part] ?? [])
  const all = inSight.length > 0 && inSight.every((h) => chosen.has(h.name))
  return (
    <>
      <div ref={scroll} className="h-[calc(100vh-13rem)] min-h-80 overflow-y-auto [contain:strict] rounded-board border border-line bg-board" tabIndex={0} aria-label="Hosts" role="region" {...hold}>
        <div role="table" aria-label="Hosts" aria-rowcount={total + 1}>
          <div role="rowgroup" className="sticky top-0 z-10 border-b border-line bg-sunk">
            <div role="row" className={`${grid} py-1.5 text-sm`}>
              <span role="columnheader">
                <input
                  type="checkbox"
                  aria-label="Choose all in sight"
                  checked={all}
                  onChange={() => {
                    const next = new Set(chosen)
                    for (const h of inSight) {
                      if (all) next.delete(h.name)
                      else next.add(h.name)
                    }
                    choose(next)
                  }}
                />
              </span>
              {columns.map((c) => (
                <Head key={c.id} column={c} wanted={wanted} want={want} />
              ))}
            </div>
          </div>
          <div role="rowgroup" className="relative" style={{ height: rows.getTotalSize() }}>
            {items.map((item) => {
              const host = found.get(Math.floor(item.index / part))?.[item.index % part]
              return (
                <div key={item.key} role="row" aria-rowindex={item.index + 2} className={`${grid} absolute top-0 left-0 w-full [contain:strict] border-b border-line hover:bg-sunk`} style={{ height: row, transform: `translateY(${String(item.start)}px)` }}>
                  {host && !whole(item.index) ? (
                    <span role="cell" className="col-start-2 truncate font-medium">
                      {host.name}
                    </span>
                  ) : host ? (
                    <Cells host={host} chosen={chosen.has(host.name)} toggle={toggle} />
                  ) : (
                    <span role="cell" className="col-span-full text-faint">
                      …
                    </span>
                  )}
                </div>
              )
            })}
          </div>
        </div>
        {total === 0 && <p className="p-6 text-center text-faint">No host is like that. Clear what is searched for, or the states above.</p>}
      </div>
      <p className="mt-2 flex flex-wrap gap-x-4 text-sm text-faint" role="status">
        <span>{counted(total, 'host')} as asked for</span>
        {waits && (
          <button type="button" className="font-medium text-ink underline" onClick={show}>
            something changed: show it
          </button>
        )}
        {chosen.size > 0 && (
          <span>
            {counted(chosen.size, 'host')} chosen{' '}
            <button
              type="button"
              className="underline"
              onClick={() => {
                choose(new Set())
              }}
            >
              choose none
            </button>
          </span>
        )}
      </p>
    </>
  )
}

function Head({ column: c, wanted, want }: { column: (typeof columns)[number] } & Pick<Does, 'wanted' | 'want'>) {
  const { id } = c
  const is = wanted.sort === id
  const Arrow = is ? (wanted.turn ? ArrowUp : ArrowDown) : ChevronsUpDown
  return (
    <span role="columnheader" className={`font-medium text-faint ${c.hide ?? ''}`} aria-sort={is ? (wanted.turn ? 'descending' : 'ascending') : undefined}>
      {id === 'addresses' ? (
        c.name
      ) : (
        <button
          type="button"
          className="flex items-center gap-1 hover:text-ink"
          onClick={() => {
            want({ sort: id, turn: is && !wanted.turn })
          }}
        >
          {c.name}
          <Arrow className="size-3.5" aria-hidden />
        </button>
      )}
    </span>
  )
}

/** The cells of a row; they are made again only where something of the host is another. */
const Cells = memo(function Cells({ host: h, chosen, toggle }: { host: HostStatus; chosen: boolean; toggle: (name: string) => void }) {
  const addresses = (h.interfaces ?? []).flatMap((i) => i.addresses.map((a) => a.replace(/\/.*/, '')))
  const four = addresses.filter((a) => !a.includes(':'))
  return (
    <>
      <span role="cell">
        <input type="checkbox" aria-label={`Choose ${h.name}`} checked={chosen} onChange={() => { toggle(h.name) }} />
      </span>
      <span role="cell" className="truncate">
        <Link to={`/hosts/${h.name}`} className="font-medium underline-offset-2 hover:underline">
          {h.name}
        </Link>
      </span>
      <span role="cell" className="hidden truncate md:block">
        {(h.roles ?? []).join(', ')}
      </span>
      <span role="cell" className="flex min-w-0 items-center gap-2" title={h.why}>
        <StateBadge state={h.state} />
        <span className="hidden truncate text-sm text-faint lg:inline">{h.why}</span>
      </span>
      <span role="cell" className="hidden sm:block">
        {h.findings > 0 ? <span className="font-semibold text-bad">{count(h.findings)}</span> : h.cosmetic > 0 ? <span className="text-sm text-faint">{h.cosmetic} cosmetic</span> : ''}
      </span>
      <span role="cell" className="hidden lg:block">
        {h.in_force === undefined ? '' : `revision ${String(h.in_force)}`}
      </span>
      <span role="cell" className="hidden truncate text-sm lg:block">
        <Ago time={h.heard_at} />
      </span>
      <span role="cell" className="hidden truncate text-faint xl:block" title={addresses.join('\n')}>
        <Mono>{four.join('  ')}</Mono>
        {addresses.length > four.length && <span className="text-sm"> and {addresses.length - four.length} IPv6</span>}
      </span>
    </>
  )
})
