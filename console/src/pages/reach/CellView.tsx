// One cell: what passes, by what, and what one can do about it.
import { Link } from 'react-router'

import type { Cell, Reach } from '../../api/reach'
import { Board, Mono } from '../../components/basics'
import { Draft, ruleFor } from '../../components/Draft'
import { Place } from '../../components/Place'
import { cellsOf, keyOf } from './compared'

export function CellView({ from, to, now, was }: { from: string; to: string; now: Reach; was: Reach | undefined }) {
  const cell = cellsOf(now).get(keyOf(from, to))
  const before = cellsOf(was).get(keyOf(from, to))
  const role = (name: string) => now.ends.some((e) => e.name === name && e.kind === 'role')
  return (
    <Board title={`${from} → ${to}`}>
      <div className="flex flex-col gap-4 p-4">
        <Passes cell={cell} empty="Nothing passes." />
        {was && (
          <div>
            <h3 className="text-sm font-semibold text-faint">Before, in revision {was.revision}</h3>
            <Passes cell={before} empty="Nothing passed." />
          </div>
        )}
        {cell && cell.by.length > 0 && (
          <div>
            <h3 className="text-sm font-semibold text-faint">Admitted by</h3>
            <ul>
              {cell.by.map((b) => (
                <li key={b.by + (b.at ?? '')} className="flex flex-wrap gap-x-2">
                  <Mono>{b.by}</Mono>
                  <Place at={b.at} />
                </li>
              ))}
            </ul>
          </div>
        )}
        <p className="flex flex-wrap gap-x-4">
          <Link className="underline underline-offset-2" to={`/ask?question=${encodeURIComponent(`${from} -> ${to} : any`)}`}>
            Ask from here
          </Link>
          {[from, to].filter(role).map((name) => (
            <Link key={name} className="underline underline-offset-2" to={`/fleet?role=${encodeURIComponent(name)}`}>
              Hosts of {name}
            </Link>
          ))}
        </p>
        <Draft rule={ruleFor(from, to, 'SERVICE')} />
      </div>
    </Board>
  )
}

function Passes({ cell, empty }: { cell: Cell | undefined; empty: string }) {
  if (!cell) return <p className="text-faint">{empty}</p>
  return (
    <ul>
      {cell.all.map((s) => (
        <li key={s}>{s}</li>
      ))}
      {cell.some.map((s) => (
        <li key={s}>
          {s} <span className="text-sm text-faint">between some hosts only</span>
        </li>
      ))}
    </ul>
  )
}
