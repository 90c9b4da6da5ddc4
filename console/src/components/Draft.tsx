// A statement that somebody could add to the policy.
import { Check, PenLine } from 'lucide-react'
import { useNavigate } from 'react-router'

import { useMay } from '../api/session'
import { Mono } from './basics'
import { Button } from './Button'

/** Where drafted statements wait for the editor, for as long as the tab is open. */
export const drafts = 'yfence-drafts'

export function Draft({ rule, done }: { rule: string; done?: boolean }) {
  const go = useNavigate()
  const may = useMay('propose')
  const write = () => {
    const kept = JSON.parse(sessionStorage.getItem(drafts) ?? '[]') as string[]
    sessionStorage.setItem(drafts, JSON.stringify([...kept.filter((k) => k !== rule), rule]))
    void go('/policy/edit')
  }
  return (
    <p className="flex flex-wrap items-center gap-2">
      <span className="rounded-plank bg-sunk px-2 py-0.5">
        <Mono>{rule}</Mono>
      </span>
      {may && (
        <Button onClick={write} aria-label={`Draft ${rule}`} small>
          {done ? <Check className="size-3.5" aria-hidden /> : <PenLine className="size-3.5" aria-hidden />} Draft
        </Button>
      )}
    </p>
  )
}
