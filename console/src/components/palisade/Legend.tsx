// How many hosts of each role are in which state, as a table; it says what the shapes mean.
import { useMemo } from 'react'
import { Link } from 'react-router'

import type { Outlined, State } from '../../api/fleet'
import { Wide, count, states } from '../basics'
import { shapes } from './draw'
import { roleOf } from './layout'

/** The picket of a state, as it is drawn in the palisade. */
export function Shape({ state }: { state: State }) {
  return (
    <svg viewBox="0 0 10 24" className="h-5 w-2.5 shrink-0" aria-hidden>
      {shapes[state].map((points) => (
        <polygon key={points.join()} points={points.map((p, i) => p * (i % 2 === 0 ? 10 : 24)).join(' ')} fill="currentColor" />
      ))}
    </svg>
  )
}

const colours = { bad: 'text-bad', care: 'text-care', good: 'text-good', plain: 'text-faint' }

/** How many hosts of each role stand how, and the states that any host is in. */
function tally(hosts: Outlined[], only: string | undefined) {
  const roles = new Map<string, Map<State, number>>()
  const met = new Set<State>()
  for (const h of hosts) {
    const role = roleOf(h)
    if (only !== undefined && role !== only) continue
    const of = roles.get(role) ?? new Map<State, number>()
    roles.set(role, of.set(h.state, (of.get(h.state) ?? 0) + 1))
    met.add(h.state)
  }
  return { roles, there: states.filter((s) => met.has(s.state)) }
}

/** The table of all roles, or of one. */
export function Legend({ hosts, role }: { hosts: Outlined[]; role: string | undefined }) {
  const { roles, there } = useMemo(() => tally(hosts, role), [hosts, role])
  return (
    <Wide name="Hosts by role and state">
      <table className="text-sm">
        <thead>
          <tr>
            <th scope="col" className="pr-6 text-left font-medium text-faint">
              Role
            </th>
            {there.map(({ state, tone, means }) => (
              <th key={state} scope="col" className={`px-3 pb-1 text-left font-medium ${colours[tone]}`} title={means}>
                <Link to={`/fleet?state=${encodeURIComponent(state)}`} className="flex items-center gap-1.5 hover:underline">
                  <Shape state={state} /> {state}
                </Link>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {[...roles].map(([role, of]) => (
            <tr key={role} className="border-t border-line">
              <th scope="row" className="pr-6 text-left font-medium">
                <Link to={`/fleet?role=${encodeURIComponent(role)}`} className="hover:underline">
                  {role}
                </Link>
              </th>
              {there.map(({ state }) => {
                const n = of.get(state)
                return (
                  <td key={state} className="px-3 tabular-nums">
                    {n === undefined ? '' : count(n)}
                  </td>
                )
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </Wide>
  )
}
