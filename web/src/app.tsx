import { lazy, type ReactNode, Suspense } from "react";
import { Navigate, Route, Routes } from "react-router";
import { useSession } from "./api/queries";
import { FlowPage } from "./flows/FlowPage";
import { NetworkFrame } from "./frame/NetworkFrame";
import { VIEWS, type ViewName } from "./frame/views";
import { NetworksPage } from "./networks/NetworksPage";
import { RevisionsPage } from "./networks/RevisionsPage";
import { PoliciesPage } from "./policies/PoliciesPage";
import { ProblemsPage } from "./problems/ProblemsPage";
import { RoutesPage } from "./routes/RoutesPage";
import { SignIn } from "./session/SignIn";
import { TokensPage } from "./session/TokensPage";
import { TablePage } from "./tables/TablePage";
import { Failed, Waiting } from "./ui/states";

const SourcePage = lazy(() => import("./source/SourcePage"));

const PAGES: Record<ViewName, ReactNode> = {
  flow: <FlowPage />,
  routes: <RoutesPage />,
  table: <TablePage />,
  policies: <PoliciesPage />,
  problems: <ProblemsPage />,
  source: <SourcePage />,
  revisions: <RevisionsPage />,
};

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
          {VIEWS.map(({ to }) => (
            <Route key={to} path={to} element={PAGES[to]} />
          ))}
        </Route>
        <Route path="*" element={<Navigate to="/" replace />} />
      </Routes>
    </Suspense>
  );
}
