import { LogOut, Moon, Sun } from 'lucide-react'
import { useState } from 'react'
import { Link, NavLink, Outlet, Route, Routes } from 'react-router'

import { Problem, useFleet, useSession, useSignOut } from './api'
import { FleetPage } from './pages/FleetPage'
import { HostPage } from './pages/HostPage'
import { PolicyPage } from './pages/PolicyPage'
import { Empty, Failure, Loading } from './components/parts'
import { SignIn } from './pages/SignIn'
import { applyTheme, theme } from './theme'
import { WavesPage } from './pages/WavesPage'

export function App() {
  const session = useSession()
  if (session.isPending) return <Loading what="Yellow Fence" />
  if (session.error) {
    if (session.error instanceof Problem && session.error.status === 401) return <SignIn />
    return <Failure error={session.error} />
  }
  return (
    <Routes>
      <Route element={<Frame name={session.data.name} />}>
        <Route index element={<FleetPage />} />
        <Route path="hosts/:host" element={<HostPage />} />
        <Route path="policy" element={<PolicyPage />} />
        <Route path="waves" element={<WavesPage />} />
        <Route
          path="*"
          element={
            <Empty title="There is no such page">
              Go back to <Link className="underline" to="/">the fleet</Link>.
            </Empty>
          }
        />
      </Route>
    </Routes>
  )
}

function Frame({ name }: { name: string }) {
  const fleet = useFleet()
  return (
    <div className="min-h-screen">
      <div className="pickets h-2" aria-hidden />
      <header className="border-b border-line bg-board">
        <div className="mx-auto flex max-w-7xl items-center gap-6 px-6 py-2.5">
          <Link to="/" className="flex items-center gap-2.5 text-lg font-semibold tracking-tight">
            <img src="/fence.svg" alt="" className="size-7" />
            Yellow Fence
          </Link>
          <nav className="flex gap-1" aria-label="Pages">
            <Page to="/">Fleet</Page>
            <Page to="/policy">Policy</Page>
            <Page to="/waves">Waves</Page>
          </nav>
          <div className="ml-auto flex items-center gap-4 text-sm text-faint">
            {fleet.data && fleet.data.revision > 0 && (
              <span className="font-medium text-ink">
                {fleet.data.policy}, revision {fleet.data.revision}
              </span>
            )}
            <span title="the token you signed in with">{name}</span>
            <ThemeButton />
            <SignOut />
          </div>
        </div>
      </header>
      <main className="mx-auto max-w-7xl px-6 py-6">
        <Outlet />
      </main>
    </div>
  )
}

function Page({ to, children }: { to: string; children: string }) {
  return (
    <NavLink
      to={to}
      end
      className={({ isActive }) =>
        `rounded-md px-3 py-1.5 font-medium ${isActive ? 'bg-fence text-fence-ink' : 'text-faint hover:bg-sunk hover:text-ink'}`
      }
    >
      {children}
    </NavLink>
  )
}

const iconButton = 'rounded-md p-1.5 hover:bg-sunk hover:text-ink'

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
      <LogOut className="size-4" /> Sign out
    </button>
  )
}
