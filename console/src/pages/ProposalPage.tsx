// One proposal: its meaning first, its text second.
import { ChevronLeft, CircleCheck, CircleDashed } from 'lucide-react'
import { Link, useParams } from 'react-router'

import { useProposal, useTellProposal, type ProposalShown } from '../api/proposals'
import { useMay, useSession } from '../api/session'
import { Ago, Board, Failure, Heading, Loading, counted } from '../components/basics'
import { AsCommand } from '../components/Button'
import { Changes, CutsList } from '../components/Changes'
import { Deed } from '../components/Deed'
import { ProposalState } from './ProposalsPage'

export default function ProposalPage() {
  const number = Number(useParams().number)
  const proposal = useProposal(number)
  if (proposal.isPending) return <Loading what="what it means" />
  if (proposal.error) return <Failure error={proposal.error} />
  const p = proposal.data
  return (
    <>
      <Link to="/proposals" className="no-print mb-2 inline-flex items-center gap-1 text-sm text-faint hover:text-ink">
        <ChevronLeft className="size-4" aria-hidden /> Proposals
      </Link>
      <Heading title={`Proposal ${String(p.number)}`}>
        <ProposalState state={p.state} />
        <AsCommand command={`yfence proposals show ${String(p.number)}`} />
        <Words proposal={p} />
      </Heading>
      <p className="mb-1 text-lg">{p.why}</p>
      <p className="mb-5 text-sm text-faint">
        proposed by {p.author} <Ago time={p.made_at} />
        {p.decided_by !== undefined && (
          <>
            , {p.state} by {p.decided_by} <Ago time={p.decided_at} />
            {p.decided !== undefined && p.decided !== '' && `: ${p.decided}`}
          </>
        )}
      </p>
      {p.hinders !== undefined && (
        <p role="status" className="mb-5 rounded-board border border-bad bg-bad-wash p-4 text-bad">
          <span className="font-semibold">It cannot be published:</span> {p.hinders}
        </p>
      )}
      <div className="grid items-start gap-5 xl:grid-cols-[minmax(0,1fr)_24rem]">
        <div className="flex flex-col gap-5">
          {p.changes && (
            <Board title="What it means" beside={<span className="text-sm text-faint">over what is published now</span>}>
              <Changes changes={p.changes} />
            </Board>
          )}
          {p.cuts && (
            <Board title="Connections that it would refuse">
              <CutsList cuts={p.cuts} />
            </Board>
          )}
          {(p.files ?? []).map((f) => (
            <details key={f.name} className="rounded-board border border-line bg-board">
              <summary className="cursor-pointer px-4 py-2 font-medium">{f.name}</summary>
              <pre className="overflow-x-auto border-t border-line px-4 py-2 font-mono text-[13px] leading-6">{f.text}</pre>
            </details>
          ))}
        </div>
        <Approvals proposal={p} />
      </div>
    </>
  )
}

/** Which approvals it needs, why, and who gave some. */
function Approvals({ proposal: p }: { proposal: ProposalShown }) {
  const open = p.state === 'open'
  const lacks = p.missing.people
  const holding = p.missing.holding ?? []
  return (
    <Board title="Approvals">
      <div className="flex flex-col gap-3 p-4">
        {p.state === 'published' && (
          <p>
            It was published as{' '}
            <Link className="underline" to={`/policy?revision=${String(p.revision ?? 0)}`}>
              revision {p.revision}
            </Link>
            .
          </p>
        )}
        {open && <p className={lacks === 0 && holding.length === 0 ? 'text-good' : 'text-care'}>
          {p.need.people === 0 && 'It needs none.'}
          {p.need.people > 0 && lacks === 0 && holding.length === 0 && 'It has all that it needs.'}
          {lacks > 0 && `${counted(lacks, 'more person must', 'more people must')} approve it.`}
          {holding.length > 0 && ` One of them must hold the right to approve for ${holding.join(', ')}.`}
        </p>}
        {p.need.because.map((r) => (
          <div key={r.kind} className="text-sm">
            <p className="font-medium">
              {counted(r.people, 'approval')}: it {r.kind}
            </p>
            <ul className="text-faint">
              {r.shown.map((s) => (
                <li key={s}>{s}</li>
              ))}
            </ul>
          </div>
        ))}
        <ul className="flex flex-col gap-1.5">
          {p.approvals.map((a) => (
            <li key={`${a.by} ${a.at}`} className={`flex items-baseline gap-2 ${a.counts || !open ? 'text-good' : 'text-faint'}`}>
              {a.counts || !open ? <CircleCheck className="size-4 self-center" aria-hidden /> : <CircleDashed className="size-4 self-center" aria-hidden />}
              <span>
                {a.by} <Ago time={a.at} />
                {a.note !== undefined && a.note !== '' && `: ${a.note}`}
                {open && !a.counts && ' (it meant something else then)'}
              </span>
            </li>
          ))}
        </ul>
      </div>
    </Board>
  )
}

/** What whoever looks at it can say to it. */
function Words({ proposal: p }: { proposal: ProposalShown }) {
  const me = useSession().data?.name
  const mayApprove = useMay('approve')
  const mayPublish = useMay('publish')
  const tell = useTellProposal(p.number)
  const say = (word: Parameters<typeof tell.mutateAsync>[0]['word']) => (why: string) => tell.mutateAsync({ word, why, sum: p.meaning.sum })
  const mayPropose = useMay('propose')
  if (p.state !== 'open') {
    if (p.state === 'published' || !mayPropose) return null
    return (
      <Link to={`/policy/edit?proposal=${String(p.number)}`} className="no-print ml-auto rounded-plank border border-line bg-board px-3 py-1.5 text-sm font-medium hover:bg-sunk">
        Propose it again
      </Link>
    )
  }
  const complete = p.missing.people === 0 && (p.missing.holding ?? []).length === 0
  const mine = p.author === me
  return (
    <span className="no-print ml-auto flex flex-wrap gap-2">
      {mayApprove && !mine && <Deed name="Approve" look="main" reason="asked" consequence={<p>You approve what the change means now. If another publication changes that meaning, your approval no longer counts.</p>} run={say('approve')} />}
      {mayPublish && complete && p.stands && (
        <Deed name="Publish" look="main" consequence={<p>The proposal becomes the newest revision. No host changes until a wave puts it in force. Undo: publish an earlier revision again.</p>} run={say('publish')} />
      )}
      {mayApprove && !mine && <Deed name="Decline" look="bad" reason="needed" consequence={<p>It is closed, with your reason. Its author can propose something else.</p>} run={say('decline')} />}
      {mine && <Deed name="Withdraw" reason="asked" consequence={<p>It is closed. You can propose it again.</p>} run={say('withdraw')} />}
    </span>
  )
}
