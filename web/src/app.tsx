import { lazy, type ReactNode, Suspense } from "react";
import { Navigate, Route, Routes, useLocation } from "react-router";
import { useSession } from "./api/queries";
import { BesidePage } from "./flows/BesidePage";
import { FlowPage } from "./flows/FlowPage";
import { NetworkFrame } from "./frame/NetworkFrame";
import { MOVED, ROOMS, type ViewPath } from "./frame/rooms";
import { ProblemsPage } from "./model/ProblemsPage";
import { RevisionsPage } from "./model/RevisionsPage";
import { UnderstandingPage } from "./model/UnderstandingPage";
import { NetworksPage } from "./networks/NetworksPage";
import { PoliciesPage } from "./policies/PoliciesPage";
import { RoutesPage } from "./routes/RoutesPage";
import { SignIn } from "./session/SignIn";
import { TokensPage } from "./session/TokensPage";
import { TablePage } from "./tables/TablePage";
import { Failed, Waiting } from "./ui/states";

const EditPage = lazy(() => import("./trials/EditPage"));
const ChangesPage = lazy(() => import("./model/ChangesPage"));
const ExpectationsPage = lazy(() => import("./expectations/ExpectationsPage"));
const MaintenancePage = lazy(() => import("./maintenance/MaintenancePage"));
const HistoryPage = lazy(() => import("./history/HistoryPage"));
const SourcePage = lazy(() => import("./source/SourcePage"));

const PAGES: Record<ViewPath, ReactNode> = {
  flow: <FlowPage />,
  "flow/beside": <BesidePage />,
  routes: <RoutesPage />,
  "routes/table": <TablePage />,
  "routes/policies": <PoliciesPage />,
  model: <UnderstandingPage />,
  "model/problems": <ProblemsPage />,
  expect: <ExpectationsPage />,
  "model/source": <SourcePage />,
  "model/revisions": <RevisionsPage />,
  "model/changes": <ChangesPage />,
  "model/edit": <EditPage />,
  "expect/maintenance": <MaintenancePage />,
  history: <HistoryPage />,
};

/** An address of old: what it asks is asked where it stands now. */
function Moved({ from, to }: { from: string; to: string }) {
  const { search } = useLocation();
  return <Navigate to={`${"../".repeat(from.split("/").length)}${to}${search}`} relative="path" replace />;
}

export function App() {
  const session = useSession();
  if (session.isPending) return <Waiting what="your session" />;
  if (session.isError) return <Failed error={session.error} what="Routrel cannot be used just now." />;
  if (!session.data.username) return <SignIn />;
  return (
    <Suspense fallback={<Waiting what="this page" />}>
      <Routes>
        <Route path="/" element={<NetworksPage />} />
        <Route path="/tokens" element={<TokensPage />} />
        <Route path="/networks/:networkId" element={<NetworkFrame />}>
          <Route index element={<Navigate to="flow" replace />} />
          {ROOMS.flatMap((room) =>
            room.views.map(({ to }) => <Route key={to} path={to} element={PAGES[to]} />),
          )}
          {Object.entries(MOVED).map(([from, to]) => (
            <Route key={from} path={from} element={<Moved from={from} to={to} />} />
          ))}
        </Route>
        <Route path="*" element={<Navigate to="/" replace />} />
      </Routes>
    </Suspense>
  );
}
