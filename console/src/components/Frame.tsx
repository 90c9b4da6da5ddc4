// The frame of every page: the rail of pages, what is published, and whether changes come in.
import { Command as CommandIcon, LogOut, Menu, Moon, Sun, X } from 'lucide-react'
import { Dialog } from 'radix-ui'
import { Suspense, useState } from 'react'
import { Link, NavLink, Outlet, useLocation } from 'react-router'

import { useFleetHead } from '../api/fleet'
import { useSession, useSignOut } from '../api/session'
import { useStream, type Live } from '../api/stream'
import { applyTheme, theme } from '../theme'
import { Loading } from './basics'
import { pages } from './pageList'
import { Palette } from './Palette'
import { usePageKeys } from './keys'

export function Frame() {
  const live = useStream()
  const [searching, search] = useState(false)
  usePageKeys(() => {
    search(true)
  })
  const { pathname } = useLocation()
  return (
    <div className="min-h-screen lg:grid lg:grid-cols-[11.5rem_minmax(0,1fr)]">
      <a href="#page" className="sr-only z-50 rounded-plank bg-fence px-3 py-2 text-fence-ink focus:not-sr-only focus:absolute">
        Skip to the page
      </a>
      <nav aria-label="Pages" className="no-print sticky top-0 hidden h-screen flex-col border-r border-line bg-board lg:flex">
        <Brand />
        <Rail />
      </nav>
      <div className="min-w-0">
        <Top
          live={live}
          search={() => {
            search(true)
          }}
        />
        <main id="page" tabIndex={-1} className="mx-auto max-w-[110rem] px-4 py-5 outline-none sm:px-6">
          <Suspense key={pathname.split('/')[1]} fallback={<Loading what="the page" />}>
            <Outlet />
          </Suspense>
        </main>
      </div>
      <Palette open={searching} setOpen={search} />
    </div>
  )
}

function Brand() {
  return (
    <Link to="/" className="flex items-center gap-2 px-3 py-3 font-semibold tracking-tight whitespace-nowrap">
      <img src="/fence.svg" alt="" className="size-7" />
      Yellow Fence
    </Link>
  )
}

function Rail({ onChoose }: { onChoose?: () => void }) {
  return (
    <div className="rails flex flex-1 flex-col gap-0.5 py-2">
      {pages.map(({ name, path, key, icon: Icon }) => (
        <NavLink
          key={path}
          to={path}
          end={path === '/'}
          onClick={onChoose}
          className={({ isActive }) => `mr-2 flex items-center gap-2.5 py-1.5 pr-6 pl-5 ${isActive ? 'pointed bg-fence font-semibold text-fence-ink' : 'font-medium text-faint hover:bg-sunk hover:text-ink'}`}
        >
          <Icon className="size-4 shrink-0" aria-hidden />
          {name}
          <kbd className="ml-auto font-mono text-xs font-normal opacity-70" aria-hidden>
            {key}
          </kbd>
        </NavLink>
      ))}
    </div>
  )
}

function Top({ live, search }: { live: Live; search: () => void }) {
  const head = useFleetHead()
  const session = useSession()
  const [menu, setMenu] = useState(false)
  return (
    <header className="no-print sticky top-0 z-30 flex h-12 items-center gap-3 border-b border-line bg-board px-4 text-sm sm:px-6">
      <Dialog.Root open={menu} onOpenChange={setMenu}>
        <Dialog.Trigger className={`${iconButton} lg:hidden`} aria-label="Pages">
          <Menu className="size-5" aria-hidden />
        </Dialog.Trigger>
        <Dialog.Portal>
          <Dialog.Overlay className="fixed inset-0 z-40 bg-black/45" />
          <Dialog.Content aria-describedby={undefined} className="fixed inset-y-0 left-0 z-50 flex w-56 flex-col bg-board">
            <Dialog.Title className="sr-only">Pages</Dialog.Title>
            <nav aria-label="Pages" className="flex flex-1 flex-col">
              <Brand />
              <Rail
                onChoose={() => {
                  setMenu(false)
                }}
              />
            </nav>
            <Dialog.Close className={`${iconButton} absolute top-3 right-2`} aria-label="Close">
              <X className="size-5" aria-hidden />
            </Dialog.Close>
          </Dialog.Content>
        </Dialog.Portal>
      </Dialog.Root>
      {head.data && (
        <Link to="/policy" className="truncate font-medium hover:underline">
          {head.data.revision > 0 ? `${head.data.policy}, revision ${head.data.revision}` : 'nothing is published'}
        </Link>
      )}
      <LiveMark live={live} />
      <button type="button" onClick={search} className="ml-auto flex items-center gap-2 rounded-plank border border-line bg-paper px-2.5 py-1 text-faint hover:text-ink">
        <CommandIcon className="size-3.5" aria-hidden />
        <span className="hidden sm:inline">Find or do</span>
        <kbd className="hidden font-mono text-xs sm:inline">Ctrl K</kbd>
        <span className="sr-only sm:hidden">Find or do</span>
      </button>
      <span className="hidden text-faint md:inline" title="who you are signed in as">
        {session.data?.name}
      </span>
      <ThemeButton />
      <SignOut />
    </header>
  )
}

const says: Record<Live, { text: string; means: string; look: string }> = {
  live: { text: 'live', means: 'changes come in as they happen', look: 'bg-good' },
  connecting: { text: 'connecting', means: 'the page asks for what happens', look: 'bg-faint' },
  'at times': { text: 'every 10 s', means: 'your rights are for some roles: the page reads again every 10 seconds', look: 'bg-good' },
  lost: { text: 'not live', means: 'the service does not answer; the page tries again by itself', look: 'bg-bad' },
}

/** Whether changes come in as they happen. */
function LiveMark({ live }: { live: Live }) {
  const { text, means, look } = says[live]
  return (
    <span role="status" title={means} className={`flex items-center gap-1.5 whitespace-nowrap ${live === 'lost' ? 'font-semibold text-bad' : 'text-faint'}`}>
      <span className={`size-2 ${look} ${live === 'lost' ? '' : 'rounded-full'}`} aria-hidden />
      {text}
    </span>
  )
}

const iconButton = 'rounded-plank p-1.5 text-faint hover:bg-sunk hover:text-ink'

function ThemeButton() {
  const [now, setNow] = useState(theme())
  const other = now === 'dark' ? 'light' : 'dark'
  return (
    <button
      type="button"
      className={iconButton}
      title={`Switch to ${other}`}
      aria-label={`Switch to ${other}`}
      onClick={() => {
        applyTheme(other)
        setNow(other)
      }}
    >
      {now === 'dark' ? <Sun className="size-4" /> : <Moon className="size-4" />}
    </button>
  )
}

function SignOut() {
  const signOut = useSignOut()
  return (
    <button
      type="button"
      className={`${iconButton} flex items-center gap-1.5`}
      onClick={() => {
        signOut.mutate()
      }}
    >
      <LogOut className="size-4" aria-hidden /> <span className="sr-only sm:not-sr-only">Sign out</span>
    </button>
  )
}
