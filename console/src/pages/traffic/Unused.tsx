// What is admitted and was never used: candidates for going.
import { useUnused, type Usage } from '../../api/traffic'
import { Ago, Empty, Failure, Loading, Mono, count, counted } from '../../components/basics'
import { SwitchOff } from '../../components/Draft'
import { Place } from '../../components/Place'

export function Unused({ since }: { since: number }) {
  const used = useUnused(since)
  if (used.isPending) return <Loading what="what was counted" />
  if (used.error) return <Failure error={used.error} />
  const { counting, hosts, statements } = used.data
  if (counting === 0) return <Empty title="Nothing is counted yet">Hosts count once what is published is settled there, and tell what they counted when they attend.</Empty>
  const never = statements.filter((u) => u.hosts > 0 && u.hit_on === 0)
  const sometimes = statements.filter((u) => u.hit_on > 0).sort((a, b) => b.packets - a.packets)
  return (
    <>
      <p className="mb-3 text-sm text-faint">
        {counting === hosts ? `All ${counted(hosts, 'host')} tell what they count.` : `${counted(counting, 'host')} of ${String(hosts)} tell what they count: what others use is not known.`}
      </p>
      <div className="grid items-start gap-5 lg:grid-cols-2">
        <List name="Never used" empty="Every statement that is counted was used." usages={never} />
        <List name="Used" empty="No statement was used." usages={sometimes} />
      </div>
    </>
  )
}

function List({ name, empty, usages }: { name: string; empty: string; usages: Usage[] }) {
  return (
    <section aria-label={name} className="rounded-board border border-line bg-board">
      <h2 className="border-b border-line px-4 py-2 font-semibold">
        {name} <span className="font-normal text-faint">{count(usages.length)}</span>
      </h2>
      {usages.length === 0 && <p className="p-4 text-faint">{empty}</p>}
      <ul className="divide-y divide-line">
        {usages.map((u) => (
          <li key={u.statement} className="flex flex-wrap items-baseline gap-x-3 px-4 py-2">
            <Mono>{u.statement}</Mono>
            <Place at={u.place} />
            {u.packets === 0 && !u.guard && u.place !== undefined && <SwitchOff statement={u.statement} place={u.place} />}
            {u.guard && <span className="text-sm text-care">a guard: it is for the day when others fail</span>}
            <span className="ml-auto text-sm text-faint">
              {u.packets > 0 ? (
                <>
                  {counted(u.packets, 'packet')}, last <Ago time={u.last === undefined ? undefined : new Date(u.last * 1000).toISOString()} />
                </>
              ) : (
                <>
                  counted on {counted(u.hosts, 'host')}
                  {u.all_since !== undefined && (
                    <>
                      {' '}
                      since <Ago time={new Date(u.all_since * 1000).toISOString()} />
                    </>
                  )}
                </>
              )}
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}
