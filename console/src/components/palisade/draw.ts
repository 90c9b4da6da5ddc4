// The palisade: every host a picket of a fence, told by its shape before its colour.
import type { Outlined, State } from '../../api/fleet'
import { stateNotes } from '../../api/states.gen'

/** Hosts that stand together. */
export interface Stand {
  role: string
  hosts: Outlined[]
}

/** Where a stand is drawn: its place, and how many pickets it has in a row. */
export interface Placed {
  stand: Stand
  left: number
  top: number
  across: number
}

export interface Layout {
  /** The size of a picket with the gap beside it. */
  wide: number
  high: number
  placed: Placed[]
  height: number
}

/** Room beside a stand for its name, above the fence. */
export const caption = 22
const between = 10

/** The gap between rows of pickets that are so high. */
const rowGap = (high: number) => (high > 12 ? 3 : 2)

/** Hosts by their first role, in the order in which roles are met; the worst stand first in each. */
export function stands(hosts: Outlined[]): Stand[] {
  const rank = new Map<State, number>(stateNotes.map((n, i) => [n.state, i]))
  const by = new Map<string, Outlined[]>()
  for (const h of hosts) {
    const role = h.roles?.[0] ?? 'no role'
    const all = by.get(role)
    if (all) all.push(h)
    else by.set(role, [h])
  }
  return [...by].map(([role, all]) => ({ role, hosts: all.sort((a, b) => (rank.get(a.state) ?? 0) - (rank.get(b.state) ?? 0) || (a.name < b.name ? -1 : 1)) }))
}

/** Sizes of pickets that are tried, the largest first. */
const sizes = [
  [26, 56],
  [20, 44],
  [15, 34],
  [12, 28],
  [9, 22],
  [7, 17],
  [5, 13],
  [4, 10],
  [3, 7],
  [2, 5],
] as const

/** The largest pickets with which all stands fit into a height, side by side where there is room. */
export function layOut(all: Stand[], width: number, height: number): Layout {
  let last: Layout = { wide: 4, high: 10, placed: [], height: 0 }
  for (const [wide, high] of sizes) {
    last = place(all, width, wide, high)
    if (last.height <= height) break
  }
  return last
}

/** How many hosts of a stand are not in step, in words; nothing where all are. */
function amiss(stand: Stand): string {
  const wrong = stand.hosts.filter((h) => h.state !== 'in step').length
  return wrong === 0 ? '' : `, ${String(wrong)} not in step`
}

/** About how wide what stands above a stand is, in pixels. */
const named = (stand: Stand) => (stand.role.length + amiss(stand).length) * 8 + 40

/** Places stands beside one another on shelves, as words on lines. */
function place(all: Stand[], width: number, wide: number, high: number): Layout {
  const most = Math.max(1, Math.floor(width / wide))
  const placed: Placed[] = []
  let left = 0
  let top = 0
  let shelf = 0 // how high the shelf is that is being filled
  for (const stand of all) {
    const across = Math.min(most, stand.hosts.length)
    const room = Math.max(across * wide, Math.min(width, named(stand)))
    if (left > 0 && left + room > width) {
      top += shelf + between
      left = shelf = 0
    }
    placed.push({ stand, left, top, across })
    left += room + 2 * between
    shelf = Math.max(shelf, caption + Math.ceil(stand.hosts.length / across) * (high + rowGap(high)))
  }
  return { wide, high, placed, height: top + shelf + between }
}

/** The host at a point, and where its picket stands. */
export function hostAt(l: Layout, x: number, y: number): { host: Outlined; x: number; y: number } | undefined {
  for (const p of l.placed) {
    const row = Math.floor((y - p.top - caption) / (l.high + rowGap(l.high)))
    const column = Math.floor((x - p.left) / l.wide)
    if (row < 0 || column < 0 || column >= p.across) continue
    const index = row * p.across + column
    const host = p.stand.hosts[index]
    if (host && row < Math.ceil(p.stand.hosts.length / p.across)) return { host, x: p.left + column * l.wide, y: p.top + caption + row * (l.high + rowGap(l.high)) }
  }
  return undefined
}

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

/** A picket of a state, drawn once and then copied: 10,000 outlines filled one by one take most of a second. */
function sprite(state: State, wide: number, high: number, scale: number, colour: string): HTMLCanvasElement {
  const out = document.createElement('canvas')
  out.width = Math.max(1, Math.ceil(wide * scale))
  out.height = Math.max(1, Math.ceil(high * scale))
  const context = out.getContext('2d')
  if (!context) return out
  context.fillStyle = colour
  for (const points of shapes[state]) {
    context.beginPath()
    for (let i = 0; i < points.length; i += 2) context.lineTo((points[i] ?? 0) * out.width, (points[i + 1] ?? 0) * out.height)
    context.fill()
  }
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
  const gap = l.wide > 8 ? 3 : l.wide > 4 ? 1.5 : l.wide > 2 ? 1 : 0.5
  const sprites = new Map<State, HTMLCanvasElement>(stateNotes.map((n) => [n.state, sprite(n.state, l.wide - gap, l.high, scale, tones[n.tone])]))
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
    p.stand.hosts.forEach((h, i) => {
      const picket = sprites.get(h.state)
      if (picket) context.drawImage(picket, p.left + (i % p.across) * l.wide, p.top + caption + Math.floor(i / p.across) * (l.high + rowGap(l.high)), l.wide - gap, l.high)
    })
    context.fillStyle = colour('ink')
    context.font = `600 13px ${style.fontFamily}`
    context.fillText(p.stand.role, p.left, p.top + caption - 7)
    const beside = p.left + context.measureText(p.stand.role).width
    context.fillStyle = colour('faint')
    context.font = `13px ${style.fontFamily}`
    context.fillText(`${String(p.stand.hosts.length)}${amiss(p.stand)}`, beside + 8, p.top + caption - 7)
  }
}

/** Where the picket of a host stands. */
export function placeOf(l: Layout, name: string): { x: number; y: number } | undefined {
  for (const p of l.placed) {
    const i = p.stand.hosts.findIndex((h) => h.name === name)
    if (i >= 0) return { x: p.left + (i % p.across) * l.wide, y: p.top + caption + Math.floor(i / p.across) * (l.high + rowGap(l.high)) }
  }
  return undefined
}
