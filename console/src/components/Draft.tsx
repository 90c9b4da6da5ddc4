// A statement that somebody could add to the policy.
import { Check, PenLine, PowerOff } from 'lucide-react'
import { useNavigate } from 'react-router'

import { useMay } from '../api/session'
import { Mono } from './basics'
import { Button } from './Button'

/** Where drafted statements wait for the editor, for as long as the tab is open. */
export const drafts = 'yfence-drafts'

/** Where the places of statements wait that are to be switched off. */
export const offs = 'yfence-offs'

/** Adds one to what waits for the editor, and goes there. */
function useWrite(key: string) {
  const go = useNavigate()
  return (text: string) => {
    const kept = JSON.parse(sessionStorage.getItem(key) ?? '[]') as string[]
    sessionStorage.setItem(key, JSON.stringify([...kept.filter((k) => k !== text), text]))
    void go('/policy/edit')
  }
}

/** Switches off a statement of the policy, in a draft: the editor writes "off" in front of it. */
export function SwitchOff({ statement, place }: { statement: string; place: string }) {
  const write = useWrite(offs)
  if (!useMay('propose')) return null
  return (
    <Button
      small
      aria-label={`Draft off: ${statement}`}
      title="Write “off” in front of the statement, in a draft: nothing is published by that"
      onClick={() => {
        write(place)
      }}
    >
      <PowerOff className="size-3.5" aria-hidden /> Draft off
    </Button>
  )
}

/** A rule that would admit something, with a name made of its ends. */
export function ruleFor(from: string, to: string, service: string): string {
  const name = `${from}-to-${to}`
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-+|-+$/g, '')
  return `allow ${/^[a-z]/.test(name) ? name : `from-${name}`}: ${from} -> ${to} : ${service}`
}

export function Draft({ rule, done }: { rule: string; done?: boolean }) {
  const may = useMay('propose')
  const write = useWrite(drafts)
  return (
    <p className="flex flex-wrap items-center gap-2">
      <span className="rounded-plank bg-sunk px-2 py-0.5">
        <Mono>{rule}</Mono>
      </span>
      {may && (
        <Button onClick={() => { write(rule) }} aria-label={`Draft ${rule}`} small>
          {done ? <Check className="size-3.5" aria-hidden /> : <PenLine className="size-3.5" aria-hidden />} Draft
        </Button>
      )}
    </p>
  )
}
