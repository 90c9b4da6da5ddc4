// The matrix: a cell is as dark as much passes; what passes between some alone is hatched, what came or went is marked.
import { useMemo, useRef, useState, type KeyboardEvent } from 'react'

import type { Cell, End, Reach } from '../../api/reach'
import { cellsOf, difference, keyOf, shade, type Difference } from './compared'

/** An end as it is drawn: itself, or a segment with all roles on it. */
interface Line {
  name: string
  ends: End[]
  folded: boolean
}

/** Ends by segment; a segment that is folded is one line. Networks and everybody else come last. */
function lines(ends: End[], folded: ReadonlySet<string>): Line[] {
  const out: Line[] = []
  const segments = [...new Set(ends.filter((e) => e.kind === 'role').map((e) => e.on?.[0] ?? ''))]
  for (const segment of segments) {
    const on = ends.filter((e) => e.kind === 'role' && (e.on?.[0] ?? '') === segment)
    if (folded.has(segment)) out.push({ name: segment, ends: on, folded: true })
    else out.push(...on.map((e) => ({ name: e.name, ends: [e], folded: false })))
  }
  return [...out, ...ends.filter((e) => e.kind !== 'role').map((e) => ({ name: e.name, ends: [e], folded: false }))]
}

const marks: Record<Difference, string> = { same: '', added: '+', gone: '−', changed: '±' }

interface Does {
  now: Reach
  was: Reach | undefined
  chosen: string
  choose: (cell: string) => void
}

export function Matrix({ now, was, chosen, choose }: Does) {
  const [folded, fold] = useState<ReadonlySet<string>>(new Set())
  const table = useRef<HTMLTableElement>(null)
  const all = useMemo(() => lines(now.ends, folded), [now.ends, folded])
  const cells = useMemo(() => cellsOf(now), [now])
  const before = useMemo(() => cellsOf(was), [was])
  const segments = [...new Set(now.ends.filter((e) => e.kind === 'role').map((e) => e.on?.[0] ?? ''))].filter((s) => s !== '')
  const walk = (event: KeyboardEvent) => {
    const step = { ArrowRight: [0, 1], ArrowLeft: [0, -1], ArrowDown: [1, 0], ArrowUp: [-1, 0] }[event.key]
    const at = (event.target as HTMLElement).dataset.at?.split(' ').map(Number)
    if (!step || !at) return
    event.preventDefault()
    table.current?.querySelector<HTMLElement>(`[data-at="${String((at[0] ?? 0) + (step[0] ?? 0))} ${String((at[1] ?? 0) + (step[1] ?? 0))}"]`)?.focus()
  }
  return (
    <div className="min-w-0">
      {segments.length > 1 && (
        <p className="mb-2 flex flex-wrap gap-2 text-sm">
          <span className="text-faint">fold</span>
          {segments.map((s) => (
            <button
              key={s}
              type="button"
              aria-pressed={folded.has(s)}
              onClick={() => {
                const next = new Set(folded)
                if (!next.delete(s)) next.add(s)
                fold(next)
              }}
              className={`rounded-plank px-2 ${folded.has(s) ? 'bg-fence font-semibold text-fence-ink' : 'text-faint hover:bg-sunk hover:text-ink'}`}
            >
              {s}
            </button>
          ))}
        </p>
      )}
      <div className="overflow-auto rounded-board border border-line bg-board p-3" tabIndex={0} role="region" aria-label="Which services pass">
        <table ref={table} className="border-separate border-spacing-[3px]" onKeyDown={walk}>
          <thead>
            <tr>
              <th scope="col" className="sticky left-0 z-10 bg-board pr-2 text-right align-bottom text-sm font-normal text-faint">
                from ↓ to →
              </th>
              {all.map((l) => (
                <th key={l.name} scope="col" className="h-28 w-8 align-bottom text-sm font-medium">
                  <span className="mx-auto block w-5 rotate-180 text-left whitespace-nowrap [writing-mode:vertical-rl]">{l.name}</span>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {all.map((row, i) => (
              <tr key={row.name}>
                <th scope="row" className="sticky left-0 z-10 bg-board pr-2 text-right text-sm font-medium whitespace-nowrap">
                  {row.name}
                </th>
                {all.map((column, j) => {
                  if (row.ends[0]?.kind !== 'role' && column.ends[0]?.kind !== 'role') return <td key={column.name} aria-label="nobody of ours" className="size-8" />
                  return <Square key={column.name} row={row} column={column} cells={cells} before={was ? before : undefined} at={`${String(i)} ${String(j)}`} chosen={chosen} choose={choose} first={i === 0 && j === 0} />
                })}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </div>
  )
}

const shades = ['bg-sunk', 'bg-good/35', 'bg-good/65', 'bg-care']
const called = ['nothing passes', 'a few services', 'several services', 'almost all services']

/** What the shades mean. */
export function Shades() {
  return (
    <ul className="mt-2 flex flex-wrap gap-x-4 gap-y-1 text-sm text-faint">
      {called.map((says, i) => (
        <li key={says} className="flex items-center gap-1.5">
          <span className={`size-4 rounded-[3px] ${shades[i] ?? ''}`} aria-hidden /> {says}
        </li>
      ))}
      <li className="flex items-center gap-1.5">
        <span className="hatched size-4 rounded-[3px] bg-good/65" aria-hidden /> between some hosts only
      </li>
    </ul>
  )
}

function Square({ row, column, cells, before, at, chosen, choose, first }: { row: Line; column: Line; cells: Map<string, Cell>; before: Map<string, Cell> | undefined; at: string; chosen: string; choose: (cell: string) => void; first: boolean }) {
  const pairs = row.ends.flatMap((f) => column.ends.map((t) => keyOf(f.name, t.name)))
  const here = pairs.map((p) => cells.get(p))
  const dark = Math.max(...here.map(shade)) as 0 | 1 | 2 | 3
  const partly = dark > 0 && here.some((c) => c === undefined || c.some.length > 0)
  const became = before === undefined ? 'same' : (pairs.map((p) => difference(cells.get(p), before.get(p))).find((d) => d !== 'same') ?? 'same')
  const key = keyOf(row.name, column.name)
  const services = here.flatMap((c) => (c ? [...c.all, ...c.some] : []))
  return (
    <td className="p-0">
      <button
        type="button"
        data-at={at}
        tabIndex={key === chosen || (chosen === '' && first) ? 0 : -1}
        disabled={row.folded || column.folded}
        aria-label={`${row.name} to ${column.name}: ${called[dark] ?? ''}${became === 'same' ? '' : `, ${became}`}`}
        title={`${row.name} → ${column.name}\n${services.length === 0 ? 'nothing passes' : services.slice(0, 8).join('\n')}${here.flatMap((c) => c?.by ?? []).length > 0 ? `\nby ${[...new Set(here.flatMap((c) => (c?.by ?? []).map((b) => b.by)))].slice(0, 4).join(', ')}` : ''}`}
        onClick={() => {
          choose(key === chosen ? '' : key)
        }}
        className={`relative block size-8 rounded-[3px] text-sm font-bold ${shades[dark] ?? ''} ${partly ? 'hatched' : ''} ${key === chosen ? 'outline-3 outline-ink' : ''} ${became === 'gone' ? 'border-2 border-dashed border-bad text-bad' : became === 'same' ? '' : 'border-2 border-bad'}`}
      >
        <span className={became === 'same' ? '' : 'rounded-sm bg-board px-0.5 text-bad'} aria-hidden>
          {marks[became]}
        </span>
      </button>
    </td>
  )
}
