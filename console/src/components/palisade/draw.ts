// The palisade as it is drawn: every host a picket of a fence, told by its shape before its colour.
import type { State } from '../../api/fleet'
import { stateNotes } from '../../api/states.gen'
import { count } from '../basics'
import { amiss, caption, rowGap, type Layout, type Placed } from './layout'

/**
 * The outline of a picket of each state, in a box of 1 by 1, as polygons. What is well is a whole picket with its
 * point; what is wrong is broken, cut, or gone.
 */
export const shapes: Record<State, number[][]> = {
  'in step': [[0, 1, 0, 0.22, 0.5, 0, 1, 0.22, 1, 1]],
  behind: [[0, 1, 0, 0.5, 0.5, 0.3, 1, 0.5, 1, 1]],
  waiting: [
    [0, 1, 0, 0.62, 1, 0.62, 1, 1],
    [0, 0.5, 0, 0.4, 0.5, 0.2, 1, 0.4, 1, 0.5],
  ],
  new: [[0.38, 1, 0.38, 0.3, 0.62, 0.3, 0.62, 1]],
  others: [[0.38, 1, 0.38, 0.65, 0.62, 0.65, 0.62, 1]],
  silent: [[0, 1, 0, 0.6, 1, 0.6, 1, 1]],
  unread: [
    [0, 1, 0, 0.75, 1, 0.75, 1, 1],
    [0, 0.65, 0, 0.45, 1, 0.45, 1, 0.65],
    [0, 0.35, 0, 0.15, 1, 0.15, 1, 0.35],
  ],
  drifted: [[0, 1, 0, 0.22, 0.5, 0, 1, 0.22, 1, 0.4, 0.3, 0.55, 1, 0.7, 1, 1]],
  'went back': [[0, 1, 0, 0.3, 0.5, 0.65, 1, 0.3, 1, 1]],
  failed: [[0, 1, 0, 0.7, 0.3, 0.85, 0.6, 0.6, 1, 0.8, 1, 1]],
  paused: [
    [0, 1, 0, 0.1, 0.32, 0.1, 0.32, 1],
    [0.68, 1, 0.68, 0.1, 1, 0.1, 1, 1],
  ],
  bare: [[0, 1, 0, 0.85, 1, 0.85, 1, 1]],
}

/**
 * Pickets of a state, one beside another, as a pattern that fills a run of them at once: 10,000 pickets that are copied one
 * by one hold up the page for 60 ms. The pattern's own unit is the picket, with the gap beside it.
 */
function pickets(context: CanvasRenderingContext2D, state: State, l: Layout, scale: number, colour: string) {
  const tile = document.createElement('canvas')
  tile.width = Math.max(1, Math.ceil(l.wide * scale))
  tile.height = Math.max(1, Math.ceil(l.high * scale))
  const inside = tile.getContext('2d')
  if (!inside) return undefined
  inside.fillStyle = colour
  inside.scale(tile.width * (1 - gapOf(l) / l.wide), tile.height)
  for (const points of shapes[state]) {
    inside.beginPath()
    for (let i = 0; i < points.length; i += 2) inside.lineTo(points[i] ?? 0, points[i + 1] ?? 0)
    inside.fill()
  }
  const pattern = context.createPattern(tile, 'repeat')
  return pattern && { pattern, across: l.wide / tile.width, down: l.high / tile.height }
}

/** The gap between two pickets of a row, in pixels. */
const gapOf = (l: Layout) => (l.wide > 8 ? 3 : l.wide > 4 ? 1.5 : l.wide > 2 ? 1 : 0.5)

/** Hosts of one state that stand beside one another in one row. */
interface Run {
  state: State
  row: number
  column: number
  length: number
}

/** The runs of a stand, row by row: as many as there are rows and states, not as there are hosts, since a stand is sorted. */
function runs(p: Placed): Run[] {
  const out: Run[] = []
  p.stand.hosts.forEach((h, i) => {
    const row = Math.floor(i / p.across)
    const last = out.at(-1)
    if (last?.state === h.state && last.row === row) last.length++
    else out.push({ state: h.state, row, column: i % p.across, length: 1 })
  })
  return out
}

/** Draws all of it. Colours are the page's own, as it has them now. */
export function draw(canvas: HTMLCanvasElement, l: Layout) {
  const context = canvas.getContext('2d')
  if (!context) return
  const style = getComputedStyle(canvas)
  const colour = (name: string) => style.getPropertyValue(`--${name}`)
  const tones = { bad: colour('bad'), care: colour('care'), good: colour('good'), plain: colour('faint') }
  const scale = window.devicePixelRatio
  context.setTransform(scale, 0, 0, scale, 0, 0)
  context.clearRect(0, 0, canvas.width, canvas.height)
  const gap = gapOf(l)
  const patterns = new Map(stateNotes.map((n) => [n.state, pickets(context, n.state, l, scale, tones[n.tone])]))
  context.textBaseline = 'alphabetic'
  for (const p of l.placed) {
    const rows = Math.ceil(p.stand.hosts.length / p.across)
    context.fillStyle = colour('fence')
    for (let row = 0; row < rows; row++) {
      const y = p.top + caption + row * (l.high + rowGap(l.high))
      const inRow = Math.min(p.across, p.stand.hosts.length - row * p.across)
      const rail = Math.max(1, l.high / 14)
      context.fillRect(p.left, y + l.high * 0.45, inRow * l.wide - gap, rail)
      context.fillRect(p.left, y + l.high * 0.8, inRow * l.wide - gap, rail)
    }
    for (const run of runs(p)) {
      const fill = patterns.get(run.state)
      if (!fill) continue
      const left = p.left + run.column * l.wide
      const top = p.top + caption + run.row * (l.high + rowGap(l.high))
      fill.pattern.setTransform(new DOMMatrix([fill.across, 0, 0, fill.down, left, top]))
      context.fillStyle = fill.pattern
      context.fillRect(left, top, run.length * l.wide, l.high)
    }
    context.fillStyle = colour('ink')
    context.font = `600 13px ${style.fontFamily}`
    context.fillText(p.stand.role, p.left, p.top + caption - 7)
    const beside = p.left + context.measureText(p.stand.role).width
    context.fillStyle = colour('faint')
    context.font = `13px ${style.fontFamily}`
    context.fillText(count(p.stand.hosts.length) + amiss(p.stand), beside + 8, p.top + caption - 7)
  }
}
