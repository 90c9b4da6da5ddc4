// Where the pickets of the palisade stand: hosts by role, the worst first, as large as there is room.
import type { Outlined, State } from '../../api/fleet'
import { stateNotes } from '../../api/states.gen'
import { count } from '../basics'

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
export const rowGap = (high: number) => (high > 12 ? 3 : 2)

/** The role under which a host stands: its first. */
export const roleOf = (h: Outlined) => h.roles?.[0] ?? 'no role'

/** Hosts by their first role, in the order in which roles are met; the worst stand first in each. */
export function stands(hosts: Outlined[]): Stand[] {
  const rank = new Map<State, number>(stateNotes.map((n, i) => [n.state, i]))
  const by = new Map<string, Outlined[]>()
  for (const h of hosts) {
    const role = roleOf(h)
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
export function amiss(stand: Stand): string {
  const wrong = stand.hosts.filter((h) => h.state !== 'in step').length
  return wrong === 0 ? '' : `, ${count(wrong)} not in step`
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

/** Where the picket of a host stands. */
export function placeOf(l: Layout, name: string): { x: number; y: number } | undefined {
  for (const p of l.placed) {
    const i = p.stand.hosts.findIndex((h) => h.name === name)
    if (i >= 0) return { x: p.left + (i % p.across) * l.wide, y: p.top + caption + Math.floor(i / p.across) * (l.high + rowGap(l.high)) }
  }
  return undefined
}
