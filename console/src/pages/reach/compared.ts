// Two matrices laid over each other.
import type { Cell, Reach } from '../../api/reach'

/** How much passes through a cell: what is drawn darker. */
export type Shade = 0 | 1 | 2 | 3

const many = /^(everything|most other protocols)/

/** A cell's shade: nothing, a few services, several, or most of all there are. */
export function shade(cell: Cell | undefined): Shade {
  if (!cell) return 0
  const all = [...cell.all, ...cell.some]
  if (all.some((s) => many.test(s))) return 3
  const services = all.flatMap((s) => s.split(',')).length
  return services > 3 ? 2 : 1
}

export const keyOf = (from: string, to: string) => `${from} ${to}`

/** Cells by their ends. */
export const cellsOf = (r: Reach | undefined) => new Map((r?.cells ?? []).map((c) => [keyOf(c.from, c.to), c]))

/** What a cell says, so that two of them can be compared. */
const said = (c: Cell | undefined) => (c ? `${c.all.join()}|${c.some.join()}` : '')

export type Difference = 'same' | 'added' | 'gone' | 'changed'

/** What became of a cell. */
export function difference(now: Cell | undefined, was: Cell | undefined): Difference {
  if (said(now) === said(was)) return 'same'
  if (!was) return 'added'
  return now ? 'changed' : 'gone'
}
