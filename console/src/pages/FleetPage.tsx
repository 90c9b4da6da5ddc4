// The fleet as a table of any length: the service sorts, filters and pages it; rows are drawn as they are scrolled to.
import { Search } from 'lucide-react'
import { ToggleGroup } from 'radix-ui'
import { useCallback, useMemo, useState } from 'react'
import { useSearchParams } from 'react-router'

import { useFleetHead, type State, type Wanted } from '../api/fleet'
import { Failure, Heading, Loading, Empty, Mono, count, counted, states } from '../components/basics'
import { AsCommand } from '../components/Button'
import { StartWave } from '../components/StartWave'
import { Export } from './fleet/Export'
import { FleetTable } from './fleet/FleetTable'

const sorts: Wanted['sort'][] = ['name', 'roles', 'state', 'in_force', 'findings', 'heard']
const known = new Set<string>(states.map((s) => s.state))

/** Which hosts the address of the page asks for: it can be kept and sent on. */
function wantedBy(params: URLSearchParams): Wanted {
  const sort = params.get('sort') as Wanted['sort'] | null
  return {
    state: params.getAll('state').filter((s): s is State => known.has(s)),
    role: params.get('role') ?? '',
    name: params.get('name') ?? '',
    sort: sort !== null && sorts.includes(sort) ? sort : 'state',
    turn: params.get('turn') === 'yes',
  }
}

/** The same by command. */
function command(w: Wanted): string {
  const order = w.sort === 'name' && !w.turn ? [] : [`--sort ${w.sort}`, ...(w.turn ? ['--turn'] : [])]
  return ['yfence fleet', ...(w.name === '' ? [] : [w.name]), ...w.state.map((s) => `--state ${s.includes(' ') ? `'${s}'` : s}`), ...(w.role === '' ? [] : [`--role ${w.role}`]), ...order].join(' ')
}

export default function FleetPage() {
  const head = useFleetHead()
  const [params, setParams] = useSearchParams()
  const wanted = useMemo(() => wantedBy(params), [params])
  const [chosen, choose] = useState<ReadonlySet<string>>(new Set())
  const want = useCallback(
    (change: Partial<Wanted>) => {
      const next = { ...wanted, ...change }
      const out = new URLSearchParams()
      for (const s of next.state) out.append('state', s)
      for (const key of ['role', 'name'] as const) if (next[key] !== '') out.set(key, next[key])
      if (next.sort !== 'state') out.set('sort', next.sort)
      if (next.turn) out.set('turn', 'yes')
      setParams(out, { replace: true })
    },
    [wanted, setParams],
  )
  if (head.isPending) return <Loading what="the fleet" />
  if (head.error) return <Failure error={head.error} />
  const total = head.data.total ?? 0
  if (total === 0) {
    return (
      <Empty title="There are no hosts yet">
        Write a fleet file and import it: <Mono>yfence fleet import fleet.json</Mono>
      </Empty>
    )
  }
  const counts = head.data.counts ?? {}
  return (
    <>
      <Heading title="Fleet">
        <span className="text-faint">
          {counted(total, 'host')}, generation {count(head.data.generation)}
        </span>
        <span className="ml-auto flex flex-wrap items-center gap-2">
          <AsCommand command={command(wanted)} />
          <Export wanted={wanted} />
          <StartWave hosts={[...chosen]} />
        </span>
      </Heading>
      <div className="mb-3 flex flex-wrap items-center gap-2">
        <ToggleGroup.Root
          type="multiple"
          value={wanted.state}
          onValueChange={(state: State[]) => {
            want({ state })
          }}
          aria-label="Show hosts by state"
          className="flex flex-wrap gap-1.5"
        >
          {states
            .filter(({ state }) => (counts[state] ?? 0) > 0)
            .map(({ state, icon: Icon, look }) => (
              <ToggleGroup.Item key={state} value={state} className={`flex items-center gap-1.5 rounded-full border border-transparent px-2.5 py-0.5 text-sm font-medium data-[state=on]:border-current ${look}`}>
                <Icon className="size-3.5" aria-hidden />
                {count(counts[state] ?? 0)} {state}
              </ToggleGroup.Item>
            ))}
        </ToggleGroup.Root>
        <label className="flex items-center gap-1.5 text-sm text-faint sm:ml-auto">
          role
          <input
            value={wanted.role}
            onChange={(event) => {
              want({ role: event.target.value.trim() })
            }}
            className="w-32 rounded-plank border border-line bg-board px-2 py-1 text-ink"
          />
        </label>
        <label className="relative">
          <Search className="absolute top-2 left-2 size-4 text-faint" aria-hidden />
          <input
            type="search"
            value={wanted.name}
            onChange={(event) => {
              want({ name: event.target.value.trim() })
            }}
            placeholder="Part of a name"
            aria-label="Find hosts by a part of the name"
            className="w-52 rounded-plank border border-line bg-board py-1 pr-2 pl-8"
          />
        </label>
      </div>
      <FleetTable wanted={wanted} want={want} chosen={chosen} choose={choose} />
    </>
  )
}
