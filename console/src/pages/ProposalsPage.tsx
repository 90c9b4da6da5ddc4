// Proposals: what waits for whom.
import { Link } from 'react-router'

import { useProposals, type Proposal } from '../api/proposals'
import { Ago, Empty, Failure, Heading, Loading, Mono } from '../components/basics'
import { AsCommand } from '../components/Button'

const looks: Record<Proposal['state'], string> = {
  open: 'bg-care-wash text-care',
  published: 'bg-good-wash text-good',
  declined: 'bg-bad-wash text-bad',
  withdrawn: 'bg-sunk text-faint',
}

export function ProposalState({ state }: { state: Proposal['state'] }) {
  return <span className={`rounded-full px-2.5 py-0.5 text-sm font-medium ${looks[state]}`}>{state}</span>
}

export default function ProposalsPage() {
  const proposals = useProposals()
  if (proposals.isPending) return <Loading what="the proposals" />
  if (proposals.error) return <Failure error={proposals.error} />
  const all = proposals.data.proposals
  const open = all.filter((p) => p.state === 'open')
  const over = all.filter((p) => p.state !== 'open')
  return (
    <>
      <Heading title="Proposals">
        <span className="ml-auto">
          <AsCommand command="yfence proposals" />
        </span>
      </Heading>
      {all.length === 0 && (
        <Empty title="Nothing was proposed yet">
          What needs a second person is proposed instead of published: <Mono>yfence propose --policy DIR -m &quot;why&quot;</Mono>
        </Empty>
      )}
      <List proposals={open} name="Open" />
      <List proposals={over} name="Decided" />
    </>
  )
}

function List({ proposals, name }: { proposals: Proposal[]; name: string }) {
  if (proposals.length === 0) return null
  return (
    <section aria-label={name} className="mb-5 rounded-board border border-line bg-board">
      <h2 className="border-b border-line px-4 py-2 font-semibold">{name}</h2>
      <ul className="divide-y divide-line">
        {proposals.map((p) => (
          <li key={p.number}>
            <Link to={`/proposals/${String(p.number)}`} className="grid items-baseline gap-x-4 px-4 py-2.5 hover:bg-sunk sm:grid-cols-[4rem_7rem_1fr_14rem]">
              <span className="font-medium tabular-nums">{p.number}</span>
              <span>
                <ProposalState state={p.state} />
              </span>
              <span>
                {p.why}
                {p.decided !== undefined && p.decided !== '' && <span className="block text-sm text-faint">{p.decided}</span>}
              </span>
              <span className="text-sm text-faint">
                {p.author}, <Ago time={p.changed_at} />
                {p.decided_by !== undefined && `; ${p.state} by ${p.decided_by}`}
              </span>
            </Link>
          </li>
        ))}
      </ul>
    </section>
  )
}
