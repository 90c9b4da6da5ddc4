// What a draft means beside what is published: what it newly admits and refuses, and what is wrong with it.
import { CircleAlert, TriangleAlert } from 'lucide-react'

import { Problem, type Schemas } from '../../api/client'
import type { useMeaning } from '../../api/draft'
import { Board, counted } from '../../components/basics'
import { Changes, CutsList } from '../../components/Changes'

interface Does {
  changed: boolean
  meaning: ReturnType<typeof useMeaning>
  problems: Schemas['Problem'][]
  open: (file: string, line?: number) => void
}

export function Meaning({ changed, meaning, problems, open }: Does) {
  const found = meaning.data
  const hosts = found?.hosts.length ?? 0
  return (
    <div className="flex min-w-0 flex-col gap-4 lg:col-start-2 lg:row-start-2 lg:overflow-y-auto 2xl:col-start-3 2xl:row-start-1" tabIndex={0} role="region" aria-label="What the draft means">
      <Board title="What it means" beside={<span className="text-sm text-faint">{meaning.isFetching ? 'deciding …' : changed && found && problems.length === 0 ? `on ${counted(hosts, 'host')}` : ''}</span>}>
        {!changed && <p className="p-4 text-faint">No changes yet. While you type, this shows what the change newly admits and refuses.</p>}
        {changed && problems.length > 0 && <Problems problems={problems} open={open} />}
        {changed && problems.length === 0 && meaning.error && <p className="p-4 text-bad">{meaning.error instanceof Problem ? meaning.error.message : 'the service does not answer'}</p>}
        {changed && !meaning.error && found && <Changes changes={found} />}
      </Board>
      {changed && !meaning.error && found?.cuts && (
        <Board title="Connections that it would refuse">
          <CutsList cuts={found.cuts} />
        </Board>
      )}
    </div>
  )
}

function Problems({ problems, open }: Pick<Does, 'problems' | 'open'>) {
  return (
    <ul className="divide-y divide-line">
      {problems.map((p) => {
        const warning = p.severity === 'warning'
        const Icon = warning ? TriangleAlert : CircleAlert
        return (
          <li key={`${p.file} ${String(p.line)} ${String(p.column)} ${p.message}`}>
            <button
              type="button"
              className="block w-full px-4 py-2 text-left hover:bg-sunk"
              onClick={() => {
                open(p.file, p.line)
              }}
            >
              <span className={`flex items-baseline gap-1.5 text-sm font-semibold ${warning ? 'text-care' : 'text-bad'}`}>
                <Icon className="size-4 self-center" aria-hidden />
                {p.file}
                {p.line > 0 && `, line ${String(p.line)}`}
              </span>
              <span className="block">{p.message}</span>
              {p.hint !== undefined && <span className="block text-sm text-faint">{p.hint}</span>}
            </button>
          </li>
        )
      })}
    </ul>
  )
}
