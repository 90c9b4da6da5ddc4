// The palisade on the page: drawn on a canvas, walked with the arrow keys, and as a table for whoever cannot see it.
import { useCallback, useEffect, useMemo, useRef, useState, type KeyboardEvent, type PointerEvent } from 'react'
import { useNavigate } from 'react-router'

import type { Outlined } from '../../api/fleet'
import { StateBadge } from '../basics'
import { useWidth } from '../width'
import { draw } from './draw'
import { hostAt, layOut, placeOf, stands } from './layout'

/** How high the fence may be before it is drawn smaller, in pixels. */
const most = 560

export function Palisade({ hosts, role, choose }: { hosts: Outlined[]; role: string | undefined; choose: (role: string | undefined) => void }) {
  const go = useNavigate()
  const canvas = useRef<HTMLCanvasElement>(null)
  const { box, width } = useWidth()
  const [marked, setMarked] = useState<{ host: Outlined; x: number; y: number }>()
  const all = useMemo(() => stands(hosts), [hosts])
  const shown = useMemo(() => (role === undefined ? all : all.filter((s) => s.role === role)), [all, role])
  const layout = useMemo(() => layOut(shown, width, most), [shown, width])

  const paint = useCallback(() => {
    const element = canvas.current
    if (!element || width === 0) return
    const scale = window.devicePixelRatio
    element.width = Math.round(width * scale)
    element.height = Math.round(layout.height * scale)
    draw(element, layout)
  }, [layout, width])
  useEffect(() => {
    const frame = requestAnimationFrame(paint)
    return () => {
      cancelAnimationFrame(frame)
    }
  }, [paint])
  useEffect(() => {
    const observer = new MutationObserver(paint) // its colours are the theme's
    observer.observe(document.documentElement, { attributes: true, attributeFilter: ['data-theme'] })
    return () => {
      observer.disconnect()
    }
  }, [paint])

  const point = (event: PointerEvent<HTMLCanvasElement>) => {
    const at = event.currentTarget.getBoundingClientRect()
    const found = hostAt(layout, event.clientX - at.left, event.clientY - at.top)
    if (found?.host !== marked?.host) setMarked(found)
  }
  const walk = (event: KeyboardEvent) => {
    const flat = layout.placed.flatMap((p) => p.stand.hosts)
    const across = layout.placed[0]?.across ?? 1
    const now = flat.findIndex((h) => h.name === marked?.host.name)
    const step = { ArrowRight: 1, ArrowLeft: -1, ArrowDown: across, ArrowUp: -across, Home: -flat.length, End: flat.length }[event.key]
    if (step !== undefined) {
      event.preventDefault()
      const host = flat[Math.min(flat.length - 1, Math.max(0, now + step))]
      if (host) setMarked({ host, ...(placeOf(layout, host.name) ?? { x: 0, y: 0 }) })
    } else if (event.key === 'Enter' && marked) void go(`/hosts/${marked.host.name}`)
    else if (event.key === 'Escape') setMarked(undefined)
  }
  return (
    <div>
      <div className="mb-2 flex flex-wrap gap-1" role="group" aria-label="Look at one role">
        {all.length > 1 &&
          all.map((s) => (
            <button
              key={s.role}
              type="button"
              aria-pressed={s.role === role}
              onClick={() => {
                choose(s.role === role ? undefined : s.role)
              }}
              className={`rounded-plank px-2 py-0.5 text-sm ${s.role === role ? 'bg-fence font-semibold text-fence-ink' : 'text-faint hover:bg-sunk hover:text-ink'}`}
            >
              {s.role}
            </button>
          ))}
      </div>
      <div ref={box} className="relative">
        <canvas
          ref={canvas}
          role="application"
          aria-label="Every host as a picket. Arrow keys walk along, Enter opens a host; the table below says the same."
          tabIndex={0}
          className="block w-full cursor-pointer"
          style={{ height: layout.height }}
          onPointerMove={point}
          onPointerLeave={() => {
            setMarked(undefined)
          }}
          onClick={() => {
            if (marked) void go(`/hosts/${marked.host.name}`)
          }}
          onKeyDown={walk}
        />
        {marked && (
          <>
            <span aria-hidden className="pointer-events-none absolute border-2 border-ink" style={{ left: marked.x - 3, top: marked.y - 3, width: layout.wide + 4, height: layout.high + 6 }} />
            <Tip marked={marked} width={width} high={layout.high} />
          </>
        )}
      </div>
      <p role="status" className="sr-only">
        {marked && `${marked.host.name}, ${marked.host.state}`}
      </p>
    </div>
  )
}

/** What is known of the host that is pointed at. */
function Tip({ marked, width, high }: { marked: { host: Outlined; x: number; y: number }; width: number; high: number }) {
  return (
    <div className="pointer-events-none absolute z-10 flex w-64 flex-wrap items-center gap-2 rounded-plank border border-line bg-board px-3 py-2 text-sm shadow-lg" style={{ left: Math.max(0, Math.min(marked.x, width - 260)), top: marked.y + high + 8 }}>
      <span className="font-semibold">{marked.host.name}</span>
      <StateBadge state={marked.host.state} />
      <span className="text-faint">{(marked.host.roles ?? []).join(', ')}</span>
    </div>
  )
}
