import { createColumnHelper, flexRender, getCoreRowModel, getFilteredRowModel, getSortedRowModel, useReactTable, type SortingState } from '@tanstack/react-table'
import { ArrowDown, ArrowUp, ChevronsUpDown, Cloud as CloudIcon, Search } from 'lucide-react'
import { ToggleGroup } from 'radix-ui'
import { useMemo, useState } from 'react'
import { Link } from 'react-router'

import { useFleet, type CloudStatus, type HostStatus } from '../api'
import { Ago, Empty, Failure, Loading, Mono, StateBadge, states } from '../components/parts'

const rank = (h: HostStatus) => states.findIndex((s) => s.state === h.state)
const addresses = (h: HostStatus) => (h.interfaces ?? []).flatMap((i) => i.addresses.map((a) => a.replace(/\/.*/, '')))

const column = createColumnHelper<HostStatus>()
const columns = [
  column.accessor('name', {
    header: 'Host',
    cell: (c) => (
      <Link to={`/hosts/${c.getValue()}`} className="font-medium underline-offset-2 hover:underline">
        {c.getValue()}
      </Link>
    ),
  }),
  column.accessor((h) => (h.roles ?? []).join(', '), { id: 'roles', header: 'Roles' }),
  column.accessor(rank, {
    id: 'state',
    header: 'State',
    cell: ({ row: { original: h } }) => (
      <>
        <StateBadge state={h.state} />
        {h.why !== undefined && <p className="mt-1 max-w-72 text-sm text-faint">{h.why}</p>}
      </>
    ),
  }),
  column.accessor((h) => h.in_force ?? 0, { id: 'in_force', header: 'In force', cell: (c) => (c.getValue() === 0 ? '' : `revision ${c.getValue()}`) }),
  column.accessor((h) => h.findings * 1000 + h.cosmetic, {
    id: 'findings',
    header: 'Findings',
    sortDescFirst: true,
    cell: ({ row: { original: h } }) =>
      h.findings > 0 ? <span className="font-semibold text-bad">{h.findings}</span> : h.cosmetic > 0 ? <span className="text-faint">{h.cosmetic} cosmetic</span> : '',
  }),
  column.accessor((h) => h.heard_at ?? '', { id: 'heard', header: 'Last report', cell: (c) => <Ago time={c.row.original.heard_at} /> }),
  column.accessor((h) => addresses(h).join(' '), {
    id: 'addresses',
    header: 'Addresses',
    enableSorting: false,
    cell: ({ row: { original: h } }) => {
      const four = addresses(h).filter((a) => !a.includes(':'))
      const six = addresses(h).length - four.length
      return (
        <span title={addresses(h).join('\n')} className="text-faint">
          <Mono>{four.join('  ')}</Mono>
          {six > 0 && <span className="text-sm"> and {six} IPv6</span>}
        </span>
      )
    },
  }),
]

export function FleetPage() {
  const fleet = useFleet()
  const [text, setText] = useState('')
  const [wanted, setWanted] = useState<string[]>([])
  const [sorting, setSorting] = useState<SortingState>([{ id: 'state', desc: false }])
  const hosts = useMemo(() => fleet.data?.hosts ?? [], [fleet.data])
  const shown = useMemo(() => (wanted.length === 0 ? hosts : hosts.filter((h) => wanted.includes(h.state))), [hosts, wanted])
  const table = useReactTable({
    data: shown,
    columns,
    state: { sorting, globalFilter: text },
    onSortingChange: setSorting,
    onGlobalFilterChange: setText,
    globalFilterFn: (row, _, value: string) =>
      [row.original.name, row.original.state, ...(row.original.roles ?? []), ...addresses(row.original)].some((s) => s.includes(value.trim().toLowerCase())),
    getCoreRowModel: getCoreRowModel(),
    getSortedRowModel: getSortedRowModel(),
    getFilteredRowModel: getFilteredRowModel(),
  })
  if (fleet.isPending) return <Loading what="the fleet" />
  if (fleet.error) return <Failure error={fleet.error} />
  if (hosts.length === 0) {
    return (
      <Empty title="There are no hosts yet">
        Write a fleet file and import it: <Mono>yfence fleet import fleet.json</Mono>
      </Empty>
    )
  }
  const rows = table.getRowModel().rows
  const published = fleet.data.revision
  const has = fleet.data.in_force ?? []
  const hostsWith = (revision: number) => has.find((r) => r.revision === revision)?.hosts ?? 0
  const current = hostsWith(published)
  const none = hostsWith(0)
  const earlier = has.filter((r) => r.revision !== published && r.revision !== 0)
  return (
    <>
      <div className="mb-4 flex flex-wrap items-center gap-3">
        <h1 className="mr-2 text-2xl font-semibold tracking-tight">Fleet</h1>
        <ToggleGroup.Root type="multiple" value={wanted} onValueChange={setWanted} aria-label="Show hosts by state" className="flex flex-wrap gap-1.5">
          {states.map(({ state, icon: Icon, look }) => {
            const count = hosts.filter((h) => h.state === state).length
            if (count === 0) return null
            return (
              <ToggleGroup.Item
                key={state}
                value={state}
                className={`flex items-center gap-1.5 rounded-full border border-transparent px-3 py-1 text-sm font-medium data-[state=on]:border-current ${look}`}
              >
                <Icon className="size-3.5" aria-hidden />
                {count} {state}
              </ToggleGroup.Item>
            )
          })}
        </ToggleGroup.Root>
        <label className="relative ml-auto">
          <Search className="absolute top-2.5 left-2.5 size-4 text-faint" aria-hidden />
          <input
            type="search"
            value={text}
            onChange={(event) => {
              setText(event.target.value)
            }}
            placeholder="Part of a name, role or address"
            aria-label="Find hosts by a part of a name, role or address"
            className="w-80 rounded-md border border-line bg-board py-1.5 pr-3 pl-8"
          />
        </label>
      </div>
      {published > 0 && current < hosts.length && (
        <p role="status" className="mb-4 rounded-lg border border-care bg-care-wash px-4 py-2 text-care">
          Revision {published} is published, and in force on {current} of {hosts.length} hosts
          {earlier.map((r) => `; revision ${r.revision} on ${r.hosts}`)}
          {none > 0 && `; no published revision on ${none}`}.
        </p>
      )}
      <div className="overflow-x-auto rounded-lg border border-line bg-board">
        <table className="w-full text-left">
          <thead className="border-b border-line bg-sunk text-sm">
            {table.getHeaderGroups().map((group) => (
              <tr key={group.id}>
                {group.headers.map((header) => {
                  const sorted = header.column.getIsSorted()
                  const Arrow = sorted === 'asc' ? ArrowUp : sorted === 'desc' ? ArrowDown : ChevronsUpDown
                  const label = flexRender(header.column.columnDef.header, header.getContext())
                  return (
                    <th key={header.id} scope="col" className="px-4 py-2 font-medium text-faint" aria-sort={sorted === 'asc' ? 'ascending' : sorted === 'desc' ? 'descending' : undefined}>
                      {header.column.getCanSort() ? (
                        <button type="button" className="flex items-center gap-1 hover:text-ink" onClick={header.column.getToggleSortingHandler()}>
                          {label}
                          <Arrow className="size-3.5" aria-hidden />
                        </button>
                      ) : (
                        label
                      )}
                    </th>
                  )
                })}
              </tr>
            ))}
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={row.id} className="border-b border-line last:border-0 hover:bg-sunk">
                {row.getVisibleCells().map((cell) => (
                  <td key={cell.id} className="px-4 py-2">
                    {flexRender(cell.column.columnDef.cell, cell.getContext())}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
        {rows.length === 0 && <p className="p-6 text-center text-faint">No host is like that. Clear the search or the states above.</p>}
      </div>
      {(fleet.data.clouds ?? []).map((c) => (
        <Cloud key={c.cloud} cloud={c} />
      ))}
      <p className="mt-2 text-sm text-faint">
        {rows.length} of {hosts.length} hosts, generation {fleet.data.generation} of the fleet
      </p>
    </>
  )
}

/** How a cloud stands, and what of its groups is not as it is to be. */
function Cloud({ cloud: c }: { cloud: CloudStatus }) {
  const troubles = c.notes ?? []
  const waits = c.waits ?? []
  return (
    <section aria-label={`Cloud ${c.cloud}`} className="mt-4 rounded-lg border border-line bg-board">
      <h2 className="flex flex-wrap items-baseline gap-x-3 border-b border-line px-4 py-2">
        <CloudIcon className="size-4 self-center text-faint" aria-hidden />
        <span className="font-semibold">{c.cloud}</span>
        <span className="text-sm text-faint">
          {c.instances} {c.instances === 1 ? 'instance' : 'instances'}, {c.groups} {c.groups === 1 ? 'group' : 'groups'}, read <Ago time={c.read_at} />
        </span>
      </h2>
      {c.failing && (
        <p role="alert" className="px-4 py-2 text-bad">
          It cannot be read now: {c.failing}
        </p>
      )}
      {waits.length > 0 && <p className="px-4 py-2 text-care">Asked for, not in force yet: {waits.join('; ')}</p>}
      {troubles.length === 0 && !c.failing && waits.length === 0 && <p className="px-4 py-2 text-sm text-faint">Its groups are as they are to be.</p>}
      <ul>
        {troubles.map((n) => (
          <li key={n.kind + n.what} className="grid gap-x-4 border-b border-line px-4 py-2 last:border-0 sm:grid-cols-[9rem_1fr]">
            <span className="font-medium text-bad">{n.kind}</span>
            <span>
              {n.says}
              <span className="block text-sm text-faint">{n.hint}</span>
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}
