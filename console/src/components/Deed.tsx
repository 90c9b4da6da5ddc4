// A deed: something that changes the world, with what it will do said before.
import { Dialog } from 'radix-ui'
import { useId, useState, type ReactNode } from 'react'

import { messageOf } from '../api/client'
import { Button } from './Button'

interface Does {
  /** What the button says, and the head of what is asked. */
  name: string
  icon?: ReactNode
  look?: 'main' | 'plain' | 'bad'
  small?: boolean
  /** The key that does the same, where there is one. */
  shortcut?: string
  /** What will happen, and how it is undone. */
  consequence: ReactNode
  /** What must be typed where it cannot be undone: the name of what it is done to. */
  sure?: string
  /** Whether a reason is asked for, and whether it may be left out. */
  reason?: 'asked' | 'needed'
  more?: ReactNode
  disabled?: boolean
  run: (why: string) => Promise<unknown>
  onDone?: () => void
}

export function Deed({ name, icon, look = 'plain', small, shortcut, disabled, ...rest }: Does) {
  const [open, setOpen] = useState(false)
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <Button look={look === 'main' ? 'main' : 'plain'} small={small} disabled={disabled} aria-keyshortcuts={shortcut} title={shortcut}>
          {icon}
          {name}
        </Button>
      </Dialog.Trigger>
      {open && (
        <Asked
          name={name}
          look={look}
          {...rest}
          close={() => {
            setOpen(false)
          }}
        />
      )}
    </Dialog.Root>
  )
}

function Asked({ name, look, consequence, sure, reason, more, run, onDone, close }: Does & { close: () => void }) {
  const [why, setWhy] = useState('')
  const [typed, setTyped] = useState('')
  const [working, setWorking] = useState(false)
  const [failed, setFailed] = useState('')
  const id = useId()
  const ready = !working && (sure === undefined || typed === sure) && (reason !== 'needed' || why.trim() !== '')
  const go = async () => {
    setWorking(true)
    setFailed('')
    try {
      await run(why.trim())
      close()
      onDone?.()
    } catch (error) {
      setFailed(messageOf(error))
    } finally {
      setWorking(false)
    }
  }
  return (
    <Dialog.Portal>
      <Dialog.Overlay className="fixed inset-0 z-40 bg-black/45" />
      <Dialog.Content aria-describedby={`${id}-what`} className="fixed top-[12vh] left-1/2 z-50 max-h-[80vh] w-[min(34rem,94vw)] -translate-x-1/2 overflow-y-auto rounded-board border border-line bg-board p-5">
        <Dialog.Title className="mb-2 text-lg font-semibold">{name}</Dialog.Title>
        <form
          onSubmit={(event) => {
            event.preventDefault()
            if (ready) void go()
          }}
        >
          <div id={`${id}-what`} className="mb-3 flex flex-col gap-2">
            {consequence}
          </div>
          {more}
          {reason && (
            <Field id={`${id}-why`} label={reason === 'needed' ? 'Why' : 'Why (may be left out)'} value={why} onChange={setWhy} />
          )}
          {sure !== undefined && <Field id={`${id}-sure`} label={`This cannot be undone. Type ${sure} to go on`} value={typed} onChange={setTyped} />}
          {failed !== '' && (
            <p role="alert" className="mt-3 rounded-plank border border-bad bg-bad-wash px-3 py-2 text-bad">
              {failed}
            </p>
          )}
          <div className="mt-4 flex justify-end gap-2">
            <Dialog.Close asChild>
              <Button>Cancel</Button>
            </Dialog.Close>
            <Button type="submit" look={look === 'plain' ? 'main' : look} disabled={!ready}>
              {working ? 'Working …' : name}
            </Button>
          </div>
        </form>
      </Dialog.Content>
    </Dialog.Portal>
  )
}

/** A line to write in, with its label above. */
export function Field({ id, label, value, onChange, hint }: { id: string; label: string; value: string; onChange: (value: string) => void; hint?: string }) {
  return (
    <div className="mt-3">
      <label htmlFor={id} className="mb-1 block text-sm font-medium">
        {label}
      </label>
      <input
        id={id}
        value={value}
        onChange={(event) => {
          onChange(event.target.value)
        }}
        className="w-full rounded-plank border border-line bg-paper px-3 py-1.5"
        aria-describedby={hint === undefined ? undefined : `${id}-hint`}
      />
      {hint !== undefined && (
        <p id={`${id}-hint`} className="mt-1 text-sm text-faint">
          {hint}
        </p>
      )}
    </div>
  )
}
