// Nothing jumps while somebody looks for a row.
import { useState } from 'react'

import type { HostStatus, Wanted } from '../../api/fleet'

type Parts = Map<number, HostStatus[]>

const said = (hosts: HostStatus[] | undefined) => (hosts ?? []).map((h) => `${h.name} ${h.state} ${String(h.findings)}`).join()

/** Rows stay as they are while the pointer is over them: what came in meanwhile waits behind a word. */
export function useStill(wanted: Wanted, latest: Parts) {
  const [kept, keep] = useState<{ wanted: Wanted; parts: Parts }>()
  const held = kept?.wanted === wanted ? kept.parts : undefined
  const show = () => {
    keep(undefined)
  }
  return {
    found: new Map([...latest].map(([n, hosts]) => [n, held?.get(n) ?? hosts])),
    waits: held !== undefined && [...latest].some(([n, hosts]) => held.has(n) && said(held.get(n)) !== said(hosts)),
    show,
    hold: {
      onPointerEnter: () => {
        keep({ wanted, parts: new Map([...latest].filter(([, hosts]) => hosts.length > 0)) })
      },
      onPointerLeave: show,
    },
  }
}
