// What a cloud has: its groups against its limits, and its instances, each with what it was asked for and has.
import { CircleCheck, CircleDashed, CircleX } from 'lucide-react'
import { useState, type ReactNode } from 'react'
import { Link } from 'react-router'

import { useCloud, type Cloud, type CloudInstance } from '../../api/clouds'
import { Button } from '../../components/Button'
import { Failure, Loading, Mono, Wide, count, counted } from '../../components/basics'
import { StartWave } from '../../components/StartWave'

const cell = 'px-4 py-1.5 whitespace-nowrap'

/** How many rows of a table are shown at first, and how many more when asked. */
const most = 200

export function Has({ cloud }: { cloud: string }) {
  const shown = useCloud(cloud)
  if (shown.isPending) return <Loading what={`the groups of ${cloud}`} />
  if (shown.error) return <Failure error={shown.error} />
  const c = shown.data
  const behind = c.has_instances.flatMap((i) => (i.host !== undefined && (!i.in_force || changed(c, i)) ? [i.host] : []))
  return (
    <>
      {behind.length > 0 && (
        <div className="no-print flex flex-wrap items-center gap-3 border-t border-line px-4 py-2">
          <StartWave hosts={behind} name="Put in force again" />
          <span className="text-sm text-faint">for {behind.length < 4 ? behind.join(', ') : counted(behind.length, 'host')}</span>
        </div>
      )}
      <Groups cloud={c} />
      <Instances cloud={c} />
      {c.more !== undefined && <p className="px-4 py-2 text-sm text-faint">{counted(c.more, 'more group or instance', 'more groups and instances')} are left out.</p>}
    </>
  )
}

/** Whether the cloud has something else for an instance than was put in force. */
function changed(c: Cloud, i: CloudInstance): boolean {
  const noted = new Set((c.notes ?? []).map((n) => n.what))
  return noted.has(i.id) || i.groups.some((g) => noted.has(g))
}

/** How much of a limit is used: a number, with a bar where there is a limit. */
function Used({ n, of }: { n: number; of: number | undefined }) {
  if (of === undefined || of === 0) return <>{count(n)}</>
  return (
    <span className="inline-flex items-center gap-2">
      <span className="min-w-14 whitespace-nowrap tabular-nums">
        {count(n)} of {count(of)}
      </span>
      <span className="h-2 w-16 overflow-hidden rounded-full bg-sunk" aria-hidden>
        <span className={`block h-full ${n >= of ? 'bg-bad' : 'bg-good'}`} style={{ width: `${String(Math.min(100, (100 * n) / of))}%` }} />
      </span>
    </span>
  )
}

/** A table of what a cloud has of something: the first of them, and more when asked. */
function Table<T>({ cloud, of, heads, all, row }: { cloud: string; of: string; heads: string[]; all: T[]; row: (one: T) => ReactNode }) {
  const [shown, setShown] = useState(most)
  const left = all.length - shown
  return (
    <>
      <Wide name={`${of} of ${cloud}`} className="border-t border-line">
        <table className="w-full text-left">
          <caption className="sr-only">{of}</caption>
          <thead className="bg-sunk text-sm text-faint">
            <tr>
              {heads.map((h) => (
                <th key={h} scope="col" className="px-4 py-1.5 font-medium">
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>{all.slice(0, shown).map(row)}</tbody>
        </table>
      </Wide>
      {left > 0 && (
        <div className="flex flex-wrap items-center gap-3 border-t border-line px-4 py-2">
          <Button
            small
            onClick={() => {
              setShown(shown + most)
            }}
          >
            Show {count(Math.min(most, left))} more
          </Button>
          <span className="text-sm text-faint">
            {of}: {count(shown)} of {count(all.length)}
          </span>
        </div>
      )}
    </>
  )
}

function Groups({ cloud: c }: { cloud: Cloud }) {
  if (c.has_groups.length === 0) return <p className="border-t border-line px-4 py-2 text-sm text-faint">It has no groups yet.</p>
  return (
    <Table
      cloud={c.cloud}
      of="Groups"
      heads={['Group', 'Whose', 'Rules for what comes in', 'Rules for what goes out', 'Instances in it']}
      all={c.has_groups}
      row={(g) => (
        <tr key={g.name} className="border-b border-line last:border-0">
          <td className={cell}>
            <Mono>{g.name}</Mono>
          </td>
          <td className={`${cell} text-faint`}>{g.ours === true ? 'made for the policy' : 'not ours'}</td>
          <td className={cell}>
            <Used n={g.inbound} of={c.limits.rules_per_group} />
          </td>
          <td className={cell}>
            <Used n={g.outbound} of={c.limits.rules_per_group} />
          </td>
          <td className={`${cell} tabular-nums`}>{count(g.members)}</td>
        </tr>
      )}
    />
  )
}

function Instances({ cloud: c }: { cloud: Cloud }) {
  if (c.has_instances.length === 0) return null
  return (
    <Table
      cloud={c.cloud}
      of="Instances"
      heads={['Instance', 'Host', 'Asked for, and in force', 'Groups it is in']}
      all={c.has_instances}
      row={(i) => (
        <tr key={i.id} className="border-b border-line align-baseline last:border-0">
          <td className={cell}>
            <Mono>{i.id}</Mono>
          </td>
          <td className={cell}>
            {i.host === undefined ? (
              <span className="text-care">not in the fleet</span>
            ) : (
              <Link to={`/hosts/${i.host}`} className="font-medium underline-offset-2 hover:underline">
                {i.host}
              </Link>
            )}
          </td>
          <td className={cell}>
            <InForce instance={i} changed={changed(c, i)} />
          </td>
          <td className={cell}>
            <span className="mr-2 inline-block">
              <Used n={i.groups.length} of={c.limits.groups_per_instance} />
            </span>
            <Mono>{i.groups.join('  ')}</Mono>
          </td>
        </tr>
      )}
    />
  )
}

function InForce({ instance: i, changed: by }: { instance: CloudInstance; changed: boolean }) {
  if (i.failed !== undefined) {
    return (
      <span className="flex items-baseline gap-1.5 text-bad">
        <CircleX className="size-3.5 shrink-0 self-center" aria-hidden /> it cannot be: {i.failed}
      </span>
    )
  }
  if (i.asked === undefined) return <span className="text-faint">nobody asked for its groups yet</span>
  const is = i.in_force && !by
  const Icon = is ? CircleCheck : CircleDashed
  return (
    <span className={`flex items-baseline gap-1.5 ${is ? 'text-good' : 'text-care'}`}>
      <Icon className="size-3.5 shrink-0 self-center" aria-hidden /> revision {i.asked}, {is ? 'in force' : by ? 'changed since by somebody' : 'not in force yet'}
    </span>
  )
}
