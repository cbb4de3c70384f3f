import { useQuery } from '@tanstack/react-query';
import { lazy, Suspense } from 'react';
import { Route, Routes } from 'react-router';
import { Refused, type Schemas } from '../api/client';
import { useLive } from '../api/live';
import { FreezeLine } from '../freezes/FreezeLine';
import { ModeLine } from '../freezes/ModeLine';
import { NodePage } from '../node/NodePage';
import { OverviewPage } from '../overview/OverviewPage';
import { SignInPage } from '../people/SignInPage';
import { WelcomePage } from '../people/WelcomePage';
import { FollowPage } from '../run/FollowPage';
import { RunPage } from '../run/RunPage';
import { Header } from './Header';
import { NotFoundPage } from './NotFoundPage';
import { PageBoundary } from './PageBoundary';
import { QueryView } from './QueryView';
import { sessionQuery } from './session';
import { useShortcuts } from './shortcuts';

// What is seldom looked at is fetched when it is; the nodes' page brings the grid along.
const NodesPage = lazy(() => import('../nodes/NodesPage').then((page) => ({ default: page.NodesPage })));
const DriftPage = lazy(() => import('../drift/DriftPage').then((page) => ({ default: page.DriftPage })));
const CompliancePage = lazy(() => import('../compliance/CompliancePage').then((page) => ({ default: page.CompliancePage })));
const ControlsPage = lazy(() => import('../controls/ControlsPage').then((page) => ({ default: page.ControlsPage })));
const EvidencePage = lazy(() => import('../evidence/EvidencePage').then((page) => ({ default: page.EvidencePage })));
const ConcessionsPage = lazy(() => import('../concessions/ConcessionsPage').then((page) => ({ default: page.ConcessionsPage })));
const ChangesPage = lazy(() => import('../changes/ChangesPage').then((page) => ({ default: page.ChangesPage })));
const ChangePage = lazy(() => import('../changes/ChangePage').then((page) => ({ default: page.ChangePage })));
const FreezesPage = lazy(() => import('../freezes/FreezesPage').then((page) => ({ default: page.FreezesPage })));
const GroupsPage = lazy(() => import('../groups/GroupsPage').then((page) => ({ default: page.GroupsPage })));
const GroupPage = lazy(() => import('../groups/GroupPage').then((page) => ({ default: page.GroupPage })));
const RequestsPage = lazy(() => import('../joining/RequestsPage').then((page) => ({ default: page.RequestsPage })));
const InvitationsPage = lazy(() => import('../joining/InvitationsPage').then((page) => ({ default: page.InvitationsPage })));
const RulesPage = lazy(() => import('../joining/RulesPage').then((page) => ({ default: page.RulesPage })));
const DecidedPage = lazy(() => import('../joining/DecidedPage').then((page) => ({ default: page.DecidedPage })));
const RetiredPage = lazy(() => import('../joining/RetiredPage').then((page) => ({ default: page.RetiredPage })));
const KitsPage = lazy(() => import('../kits/KitsPage').then((page) => ({ default: page.KitsPage })));
const ReleasePage = lazy(() => import('../kits/ReleasePage').then((page) => ({ default: page.ReleasePage })));
const KindsPage = lazy(() => import('../kits/KindsPage').then((page) => ({ default: page.KindsPage })));
const ActivityPage = lazy(() => import('../activity/ActivityPage').then((page) => ({ default: page.ActivityPage })));
const SweepPage = lazy(() => import('../sweeps/SweepPage').then((page) => ({ default: page.SweepPage })));
const ServerPage = lazy(() => import('../server/ServerPage').then((page) => ({ default: page.ServerPage })));

/** The console: signing in, or the pages. */
export function App() {
  return (
    <Routes>
      <Route path="/welcome" element={<WelcomePage />} />
      <Route path="*" element={<SignedIn />} />
    </Routes>
  );
}

function SignedIn() {
  const session = useQuery(sessionQuery);
  if (session.error instanceof Refused && session.error.isSignedOut) return <SignInPage />;
  return <QueryView query={session}>{(session) => <Pages session={session} />}</QueryView>;
}

function Pages({ session }: { session: Schemas['Session'] }) {
  const isConnected = useLive();
  useShortcuts();
  return (
    <>
      <Header session={session} isConnected={isConnected} />
      <FreezeLine />
      <ModeLine />
      <PageBoundary>
        <Suspense fallback={null}>
          <Routes>
            <Route index element={<OverviewPage />} />
            <Route path="nodes" element={<NodesPage />} />
            <Route path="nodes/:name" element={<NodePage />} />
            <Route path="nodes/:name/follow" element={<FollowPage />} />
            <Route path="nodes/:name/runs/:run" element={<RunPage />} />
            <Route path="drift" element={<DriftPage />} />
            <Route path="compliance" element={<CompliancePage />} />
            <Route path="compliance/controls" element={<ControlsPage />} />
            <Route path="compliance/concessions" element={<ConcessionsPage />} />
            <Route path="compliance/evidence" element={<EvidencePage />} />
            <Route path="changes" element={<ChangesPage />} />
            <Route path="changes/:no" element={<ChangePage />} />
            <Route path="groups" element={<GroupsPage />} />
            <Route path="groups/:name" element={<GroupPage />} />
            <Route path="freezes" element={<FreezesPage />} />
            <Route path="joining" element={<RequestsPage />} />
            <Route path="joining/invitations" element={<InvitationsPage />} />
            <Route path="joining/rules" element={<RulesPage />} />
            <Route path="joining/decided" element={<DecidedPage />} />
            <Route path="joining/retired" element={<RetiredPage />} />
            <Route path="kits" element={<KitsPage />} />
            <Route path="kits/:kit/:version" element={<ReleasePage />} />
            <Route path="kinds" element={<KindsPage />} />
            <Route path="kinds/:kind" element={<KindsPage />} />
            <Route path="activity" element={<ActivityPage />} />
            <Route path="activity/:no" element={<SweepPage />} />
            <Route path="server" element={<ServerPage />} />
            <Route path="*" element={<NotFoundPage />} />
          </Routes>
        </Suspense>
      </PageBoundary>
    </>
  );
}
