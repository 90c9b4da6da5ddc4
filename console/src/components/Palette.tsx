// The palette: pages, hosts, and what can be done, by a part of the name.
import { Command } from 'cmdk'
import { MousePointerClick } from 'lucide-react'
import { Dialog } from 'radix-ui'
import { useState, type ReactNode } from 'react'
import { useNavigate } from 'react-router'

import { useFoundHosts } from '../api/fleet'
import { useSignOut } from '../api/session'
import { applyTheme, theme } from '../theme'
import { StateBadge } from './basics'
import { pageKeys, setPageKeys } from './keys'
import { pages } from './pageList'

export function Palette({ open, setOpen }: { open: boolean; setOpen: (open: boolean) => void }) {
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/45" />
        <Dialog.Content aria-describedby={undefined} className="fixed top-[10vh] left-1/2 z-50 w-[min(36rem,94vw)] -translate-x-1/2 overflow-hidden rounded-board border border-line bg-board">
          <Dialog.Title className="sr-only">Find or do</Dialog.Title>
          {open && (
            <Choices
              close={() => {
                setOpen(false)
              }}
            />
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

/** What the page behind the palette offers to do: its buttons, by what they say. */
function offers() {
  const buttons = [...document.querySelectorAll<HTMLButtonElement>('main button[data-action]:not(:disabled)')]
  const named = buttons.map((button) => ({ name: (button.getAttribute('aria-label') ?? button.textContent).trim(), press: () => { button.click() } }))
  return named.filter(({ name }, i) => name !== '' && named.findIndex((other) => other.name === name) === i).slice(0, mostOffered)
}

const mostOffered = 30

function Choices({ close }: { close: () => void }) {
  const [text, setText] = useState('')
  const [offered] = useState(offers)
  const go = useNavigate()
  const signOut = useSignOut()
  const hosts = useFoundHosts(text.trim().toLowerCase()).data?.hosts ?? []
  const to = (path: string) => () => {
    close()
    void go(path)
  }
  const other = theme() === 'dark' ? 'light' : 'dark'
  return (
    <Command label="Find or do" shouldFilter loop>
      <Command.Input value={text} onValueChange={setText} placeholder="A page, a host, or what to do" className="w-full border-b border-line bg-board px-4 py-3 outline-none" />
      <Command.List className="max-h-[55vh] overflow-y-auto p-2">
        <Command.Empty className="p-6 text-center text-faint">Nothing is called that</Command.Empty>
        {text.trim().length > 1 && hosts.length > 0 && (
          <Group heading="Hosts">
            {hosts.map((h) => (
              <Choice key={h.name} value={`host ${h.name}`} choose={to(`/hosts/${h.name}`)}>
                {h.name} <span className="text-faint">{(h.roles ?? []).join(', ')}</span>
                <span className="ml-auto">
                  <StateBadge state={h.state} />
                </span>
              </Choice>
            ))}
          </Group>
        )}
        {offered.length > 0 && (
          <Group heading="On this page">
            {offered.map(({ name, press }) => (
              <Choice
                key={name}
                choose={() => {
                  close()
                  // The palette gives the focus back first: what a button opens must not lose it again.
                  setTimeout(press)
                }}
              >
                <MousePointerClick className="size-4" aria-hidden /> {name}
              </Choice>
            ))}
          </Group>
        )}
        <Group heading="Pages">
          {pages.map(({ name, path, icon: Icon }) => (
            <Choice key={path} choose={to(path)}>
              <Icon className="size-4" aria-hidden /> {name}
            </Choice>
          ))}
        </Group>
        <Group heading="The console">
          <Choice
            choose={() => {
              applyTheme(other)
              close()
            }}
          >
            Switch to {other}
          </Choice>
          <Choice
            choose={() => {
              setPageKeys(!pageKeys())
              close()
            }}
          >
            Turn the keys of pages {pageKeys() ? 'off' : 'on'}
          </Choice>
          <Choice
            choose={() => {
              signOut.mutate()
            }}
          >
            Sign out
          </Choice>
        </Group>
      </Command.List>
    </Command>
  )
}

function Group({ heading, children }: { heading: string; children: ReactNode }) {
  return (
    <Command.Group heading={heading} className="[&_[cmdk-group-heading]]:px-2 [&_[cmdk-group-heading]]:py-1 [&_[cmdk-group-heading]]:text-sm [&_[cmdk-group-heading]]:text-faint">
      {children}
    </Command.Group>
  )
}

function Choice({ value, choose, children }: { value?: string; choose: () => void; children: ReactNode }) {
  return (
    <Command.Item value={value} onSelect={choose} className="flex cursor-pointer items-center gap-2 rounded-plank px-2 py-1.5 data-[selected=true]:bg-fence data-[selected=true]:text-fence-ink data-[selected=true]:[&_span]:text-fence-ink">
      {children}
    </Command.Item>
  )
}
