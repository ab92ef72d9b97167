import { useState } from "react";
import { Link, NavLink, Outlet, useNavigate, useParams, useSearchParams } from "react-router";
import type { Network } from "../api/client";
import { useFindings, useNetwork, useQuiet, useRevision, useSession, useSignOut } from "../api/queries";
import { Key } from "../ui/Key";
import { Failed, Waiting } from "../ui/states";
import { useKeys } from "../ui/useKeys";
import { Wordmark } from "../ui/Wordmark";
import { CurrentNetwork } from "./context";
import { Palette } from "./Palette";
import { toggleTheme } from "./theme";
import { VIEWS } from "./views";

export function NetworkFrame() {
  const { networkId = "" } = useParams();
  const [search] = useSearchParams();
  const network = useNetwork(networkId);
  const latest = network.data?.latest;
  if (network.isPending) return <Waiting what="the network" />;
  if (network.isError) return <Failed error={network.error} what="This network cannot be shown." />;
  if (!latest) return <Failed error="It has no revision." what="This network cannot be shown." />;
  const number = Number(search.get("revision")) || latest.number;
  return <Shown network={network.data} number={number} latest={latest.number} />;
}

/** The frame around one revision, the time it was true taken from it. */
function Shown({ network, number, latest }: { network: Network; number: number; latest: number }) {
  const revision = useRevision({ networkId: network.id, number });
  if (revision.isPending) return <Waiting what="the revision" />;
  if (revision.isError) return <Failed error={revision.error} what="This revision cannot be shown." />;
  const current = { network, revision: { networkId: network.id, number }, takenAt: revision.data.taken_at };
  return (
    <CurrentNetwork.Provider value={current}>
      <Frame number={number} latest={latest} />
    </CurrentNetwork.Provider>
  );
}

function Frame({ number, latest }: { number: number; latest: number }) {
  const { networkId = "" } = useParams();
  const network = useNetwork(networkId).data;
  const session = useSession();
  const signOut = useSignOut();
  const navigate = useNavigate();
  const [paletteOpen, setPaletteOpen] = useState(false);
  const findings = useFindings({ networkId, number }, useQuiet());
  const suffix = number === latest ? "" : `?revision=${number}`;
  const go = (to: string) => navigate(`/networks/${networkId}/${to}${suffix}`);
  useKeys({
    "ctrl+k": () => setPaletteOpen(true),
    k: () => setPaletteOpen(true),
    d: toggleTheme,
    ...Object.fromEntries(VIEWS.map((view) => [view.key, () => go(view.to)])),
  });
  const worrying = findings.data?.filter((finding) => finding.severity !== "note").length ?? 0;
  return (
    <div className="h-full flex flex-col">
      <header className="flex items-baseline gap-5 px-4 pt-2 pb-1.5 border-b border-hair shrink-0">
        <Link to="/" className="text-lg" title="all networks">
          <Wordmark />
        </Link>
        <span className="font-semibold truncate" data-testid="network-name">
          {network?.name}
        </span>
        {number !== latest && (
          <Link to={`/networks/${networkId}/flow`} className="text-return underline">
            revision {number}, not the latest
          </Link>
        )}
        <nav className="flex gap-4" aria-label="activities">
          {VIEWS.map((view) => (
            <NavLink
              key={view.to}
              to={`/networks/${networkId}/${view.to}${suffix}`}
              className={({ isActive }) =>
                `pb-0.5 border-b-2 ${isActive ? "border-ink" : "border-transparent text-faint hover:text-ink"}`
              }
            >
              {view.label}
              {view.to === "problems" && worrying > 0 && <span className="ml-1 text-stop">{worrying}</span>}{" "}
              <Key>{view.key}</Key>
            </NavLink>
          ))}
        </nav>
        <span className="ml-auto flex items-baseline gap-4 text-faint">
          <button type="button" onClick={() => setPaletteOpen(true)} className="hover:text-ink">
            find <Key>k</Key>
          </button>
          <button type="button" onClick={toggleTheme} className="hover:text-ink">
            light/dark <Key>d</Key>
          </button>
          <button type="button" onClick={() => signOut.mutate()} className="hover:text-ink">
            sign out {session.data?.username}
          </button>
        </span>
      </header>
      <main className="flex-1 min-h-0 overflow-hidden">
        <Outlet />
      </main>
      <Palette open={paletteOpen} onClose={() => setPaletteOpen(false)} go={go} />
    </div>
  );
}
