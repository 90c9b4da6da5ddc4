import { lazy } from 'react'
import { Link, Navigate, Route, Routes } from 'react-router'

import { Problem } from './api/client'
import { useSession } from './api/session'
import { Failure, Heading, Loading } from './components/basics'
import { Frame } from './components/Frame'
import { OverviewPage } from './pages/OverviewPage'
import { SignIn } from './pages/SignIn'

// What the first page does not need comes when it is asked for.
const FleetPage = lazy(() => import('./pages/FleetPage'))
const HostPage = lazy(() => import('./pages/HostPage'))
const PolicyPage = lazy(() => import('./pages/PolicyPage'))
const ComparePage = lazy(() => import('./pages/ComparePage'))
const EditPage = lazy(() => import('./pages/EditPage'))
const WavesPage = lazy(() => import('./pages/WavesPage'))
const CloudsPage = lazy(() => import('./pages/CloudsPage'))
const ProposalsPage = lazy(() => import('./pages/ProposalsPage'))
const ProposalPage = lazy(() => import('./pages/ProposalPage'))
const ReachPage = lazy(() => import('./pages/ReachPage'))
const AskPage = lazy(() => import('./pages/AskPage'))
const TrafficPage = lazy(() => import('./pages/TrafficPage'))
const RecordPage = lazy(() => import('./pages/RecordPage'))
const SettingsPage = lazy(() => import('./pages/SettingsPage'))

export function App() {
  const session = useSession()
  if (session.isPending) return <Loading what="Yellow Fence" />
  if (session.error) {
    if (session.error instanceof Problem && session.error.status === 401) return <SignIn />
    return <Failure error={session.error} />
  }
  return (
    <Routes>
      <Route element={<Frame />}>
        <Route index element={<OverviewPage />} />
        <Route path="fleet" element={<FleetPage />} />
        <Route path="hosts" element={<Navigate to="/fleet" replace />} />
        <Route path="hosts/:host" element={<HostPage />} />
        <Route path="policy" element={<PolicyPage />} />
        <Route path="policy/compare" element={<ComparePage />} />
        <Route path="policy/edit" element={<EditPage />} />
        <Route path="waves" element={<WavesPage />} />
        <Route path="clouds" element={<CloudsPage />} />
        <Route path="proposals" element={<ProposalsPage />} />
        <Route path="proposals/:number" element={<ProposalPage />} />
        <Route path="reach" element={<ReachPage />} />
        <Route path="ask" element={<AskPage />} />
        <Route path="traffic" element={<TrafficPage />} />
        <Route path="record" element={<RecordPage />} />
        <Route path="settings" element={<SettingsPage />} />
        <Route
          path="*"
          element={
            <>
              <Heading title="There is no such page" />
              <Link className="underline" to="/">
                Go back to the overview
              </Link>
            </>
          }
        />
      </Route>
    </Routes>
  )
}
