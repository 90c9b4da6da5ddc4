// The state of the record's proof: verified by this browser, and exported to be verified elsewhere.
import { Download, ShieldCheck, ShieldX } from 'lucide-react'
import { useState } from 'react'

import { messageOf } from '../../api/client'
import type { Verified } from '../../api/verify'
import { counted } from '../../components/basics'
import { Button } from '../../components/Button'
import { save } from '../../components/save'

type State = { is: 'not yet' } | { is: 'reading'; entries: number } | { is: 'holds'; said: Verified } | { is: 'wrong'; what: string }

export function Proof() {
  const [state, setState] = useState<State>({ is: 'not yet' })
  const run = async (deed: () => Promise<State>) => {
    setState({ is: 'reading', entries: 0 })
    try {
      setState(await deed())
    } catch (error) {
      setState({ is: 'wrong', what: messageOf(error) })
    }
  }
  const verify = async (): Promise<State> => {
    const { verifyRecord } = await import('../../api/verify')
    return { is: 'holds', said: await verifyRecord((entries) => { setState({ is: 'reading', entries }) }) }
  }
  const write = async (): Promise<State> => {
    const { exportedRecord } = await import('../../api/verify')
    save('record.jsonl', 'application/jsonl', await exportedRecord())
    return { is: 'not yet' }
  }
  const busy = state.is === 'reading'
  return (
    <div className="mb-4 flex flex-wrap items-center gap-3">
      <Button look="main" disabled={busy} onClick={() => void run(verify)}>
        <ShieldCheck className="size-4" aria-hidden /> Verify
      </Button>
      <Button disabled={busy} onClick={() => void run(write)} title="Save the record; yfence record verify --export FILE verifies it elsewhere">
        <Download className="size-4" aria-hidden /> Export
      </Button>
      <p role="status" className={state.is === 'wrong' ? 'flex items-center gap-1.5 font-semibold text-bad' : state.is === 'holds' ? 'flex items-center gap-1.5 text-good' : 'text-sm text-faint'}>
        {state.is === 'not yet' && 'Each entry is signed with all before it. This browser can prove that none was changed.'}
        {state.is === 'reading' && `Reading the record: ${counted(state.entries, 'entry', 'entries')} …`}
        {state.is === 'wrong' && (
          <>
            <ShieldX className="size-4 shrink-0" aria-hidden /> {state.what}
          </>
        )}
        {state.is === 'holds' && (
          <>
            <ShieldCheck className="size-4 shrink-0" aria-hidden />
            <span>
              The record holds: no entry of {counted(state.said.size, 'entry', 'entries')} was changed, moved or removed.
              {state.said.before > 0 && ` The first ${counted(state.said.before, 'entry', 'entries')} are as this browser verified them before.`}
            </span>
          </>
        )}
      </p>
    </div>
  )
}
