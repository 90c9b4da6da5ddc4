// An answer: what becomes of it, who decides on the way, and its parts.
import { ArrowRight, CircleCheck, CircleHelp, CircleSlash, Split, type LucideIcon } from 'lucide-react'

import type { Answer, Step } from '../../api/ask'
import { Board, Mono, Wide } from '../../components/basics'
import { SwitchOff } from '../../components/Draft'
import { Place } from '../../components/Place'

const verdicts: Record<string, { icon: LucideIcon; look: string; line: string }> = {
  admitted: { icon: CircleCheck, look: 'border-good bg-good-wash text-good', line: 'text-good' },
  dropped: { icon: CircleSlash, look: 'border-bad bg-bad-wash text-bad', line: 'text-bad' },
  rejected: { icon: CircleSlash, look: 'border-bad bg-bad-wash text-bad', line: 'text-bad' },
  mixed: { icon: Split, look: 'border-care bg-care-wash text-care', line: 'text-care' },
  uncertain: { icon: CircleHelp, look: 'border-care bg-care-wash text-care', line: 'text-care' },
}
const looksOf = (verdict: string) => verdicts[verdict] ?? { icon: CircleHelp, look: 'border-line bg-sunk text-faint', line: 'text-faint' }

export function Answered({ answer: a }: { answer: Answer }) {
  const { icon: Icon, look } = looksOf(a.verdict)
  return (
    <>
      <p role="status" className={`mb-5 flex flex-wrap items-center gap-2 rounded-board border p-4 text-lg font-semibold ${look}`}>
        <Icon className="size-5" aria-hidden /> {a.verdict}
        {a.in_force && a.in_force.of > 0 && (
          <span className="text-base font-normal">
            by revision {a.in_force.revision}, which is in force on {a.in_force.hosts} of the {a.in_force.of} hosts that decide
          </span>
        )}
      </p>
      {a.assumed !== undefined && <p className="mb-3 text-sm text-faint">{a.assumed}</p>}
      {(a.unread ?? []).map((u) => (
        <p key={u} className="mb-3 rounded-board border border-care bg-care-wash p-3 text-care">
          {u}
        </p>
      ))}
      <Path steps={a.steps} />
      {a.examples.length > 0 && (
        <Board title={a.examples.length === 1 ? 'A packet that shows it' : 'Parts of this traffic'}>
          <Wide name="Parts of this traffic">
            <table className="w-full text-left">
              <thead className="border-b border-line text-sm text-faint">
                <tr>
                  {['Result', 'Traffic', 'From', 'To'].map((h) => (
                    <th key={h} scope="col" className="px-4 py-1.5 font-medium">
                      {h}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {a.examples.map((e) => (
                  <tr key={e.verdict + e.traffic} className="border-b border-line align-baseline last:border-0">
                    <td className={`px-4 py-2 font-semibold ${looksOf(e.verdict).line}`}>{e.verdict}</td>
                    <td className="px-4 py-2">{e.traffic}</td>
                    <td className="px-4 py-2">
                      <Mono>
                        {e.packet.src}
                        {e.packet.sport !== undefined && ` port ${String(e.packet.sport)}`}
                      </Mono>
                    </td>
                    <td className="px-4 py-2">
                      <Mono>
                        {e.packet.dst}
                        {e.packet.dport !== undefined && ` port ${String(e.packet.dport)}`}
                      </Mono>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Wide>
        </Board>
      )}
    </>
  )
}

/** The ends on the way, in the order in which a packet comes to them; what stands in one column are others' ways. */
const ends: { says: string; of: (where: string) => boolean }[] = [
  { says: 'the sender lets it out', of: (w) => w.endsWith('outbound') },
  { says: 'on the way', of: (w) => !w.endsWith('outbound') && !w.endsWith('inbound') },
  { says: 'the receiver lets it in', of: (w) => w.endsWith('inbound') },
]

function Path({ steps }: { steps: Step[] }) {
  const columns = ends.map((e) => ({ ...e, steps: steps.filter((s) => e.of(s.where)) })).filter((c) => c.steps.length > 0)
  return (
    <ol aria-label="The path" className="mb-5 flex flex-col gap-3 lg:flex-row lg:items-stretch">
      {columns.map((c, i) => (
        <li key={c.says} className="flex min-w-0 flex-1 items-stretch gap-3">
          {i > 0 && <ArrowRight className="hidden size-6 shrink-0 self-center text-faint lg:block" aria-hidden />}
          <section className="flex min-w-0 flex-1 flex-col gap-2" aria-label={c.says}>
            <h2 className="text-sm font-medium text-faint">{c.says}</h2>
            {c.steps.map((s, at) => (
              <Station key={at} step={s} />
            ))}
          </section>
        </li>
      ))}
    </ol>
  )
}

/** What one end does, and by what. */
function Station({ step: s }: { step: Step }) {
  const { icon: Icon, line } = looksOf(s.verdict)
  return (
    <div className={`flex-1 rounded-board border border-l-4 border-line bg-board px-4 py-3 ${s.verdict === 'admitted' ? 'border-l-good' : s.verdict === 'uncertain' ? 'border-l-care' : 'border-l-bad'}`}>
      <p>{s.where}</p>
      <p className={`flex flex-wrap items-center gap-1.5 font-semibold ${line}`}>
        <Icon className="size-4" aria-hidden /> {s.verdict}
        {s.at_most !== undefined && <span className="font-normal">, at most {s.at_most}</span>}
        <span className="font-normal text-faint">
          by <Mono>{s.by}</Mono>
        </span>
      </p>
      {s.as !== undefined && <p className="text-sm text-faint">as {s.as}</p>}
      {s.trial !== undefined && <p className="text-sm text-care">on trial: {s.trial}</p>}
      <div className="flex flex-wrap items-baseline gap-3">
        <Place at={s.at} />
        {s.at !== undefined && /^(allow|block) /.test(s.by) && <SwitchOff statement={s.by} place={s.at} />}
      </div>
    </div>
  )
}
