// How many hosts of each role are in which state, as a table; it says what the shapes mean.
import { Link } from 'react-router'

import type { Outlined, State } from '../../api/fleet'
import { Wide, states } from '../basics'
import { shapes, stands } from './draw'

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

export function Legend({ hosts }: { hosts: Outlined[] }) {
  const there = states.filter((s) => hosts.some((h) => h.state === s.state))
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
          {stands(hosts).map(({ role, hosts: all }) => (
            <tr key={role} className="border-t border-line">
              <th scope="row" className="pr-6 text-left font-medium">
                <Link to={`/fleet?role=${encodeURIComponent(role)}`} className="hover:underline">
                  {role}
                </Link>
              </th>
              {there.map(({ state }) => {
                const n = all.filter((h) => h.state === state).length
                return (
                  <td key={state} className="px-3 tabular-nums">
                    {n > 0 ? n : ''}
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
