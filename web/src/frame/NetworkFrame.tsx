import { useState } from "react";
import { Link, Outlet, useLocation, useNavigate, useParams, useSearchParams } from "react-router";
import { useFindings, useQuiet, useRevision } from "../api/answers";
import type { Network } from "../api/client";
import { useNetwork, useRevisions, useSession, useSignOut } from "../api/queries";
import { trialKey, useTrial } from "../api/trials";
import { momentOf, trueAt } from "../history/moments";
import { TrialPanel } from "../trials/TrialPanel";
import { WritingLine } from "../trials/writing";
import { Key } from "../ui/Key";
import { Failed, Waiting } from "../ui/states";
import { toggleZone } from "../ui/times";
import { useKeys } from "../ui/useKeys";
import { Wordmark } from "../ui/Wordmark";
import { counted } from "../ui/words";
import { CurrentNetwork, stateOf, useCurrentNetwork } from "./context";
import { Palette } from "./Palette";
import { nextIn, ROOMS, type Room, type View, type ViewPath, viewAt } from "./rooms";
import { toggleTheme } from "./theme";

const PROBLEMS: ViewPath = "model/problems";

export function NetworkFrame() {
  const { networkId = "" } = useParams();
  const [search] = useSearchParams();
  const network = useNetwork(networkId);
  const latest = network.data?.latest;
  if (network.isPending) return <Waiting what="the network" />;
  if (network.isError) return <Failed error={network.error} what="This network cannot be shown." />;
  if (!latest) return <Failed error="It has no revision." what="This network cannot be shown." />;
  const number = Number(search.get("revision")) || 0;
  const trial = Number(search.get("with")) || 0;
  const moment = momentOf(search.get("time"));
  const shown = { network: network.data, latest: latest.number, trialNumber: trial, moment };
  if (moment && !number) return <AtMoment {...shown} moment={moment} />;
  return <Shown {...shown} number={number || latest.number} />;
}

type ShownProps = {
  network: Network;
  number: number;
  latest: number;
  trialNumber: number;
  moment: string | undefined;
};

/** The frame around the revision that was true at a moment. */
function AtMoment(props: Omit<ShownProps, "number"> & { moment: string }) {
  const revisions = useRevisions(props.network.id);
  if (revisions.isPending) return <Waiting what="the revisions" />;
  if (revisions.isError) return <Failed error={revisions.error} what="The revisions cannot be listed." />;
  return <Shown {...props} number={trueAt(revisions.data, props.moment) ?? props.latest} />;
}

/** The frame around one revision, the time it was true taken from it. */
function Shown({ network, number, latest, trialNumber, moment }: ShownProps) {
  const revision = useRevision({ networkId: network.id, number });
  const asked = useTrial(network.id, trialNumber);
  const [line, write] = useState("");
  if (revision.isPending || (trialNumber > 0 && asked.isPending)) return <Waiting what="the revision" />;
  if (revision.isError) return <Failed error={revision.error} what="This revision cannot be shown." />;
  if (asked.isError) return <Failed error={asked.error} what="This trial cannot be shown." />;
  const trial = asked.data && trialKey(asked.data);
  const current = {
    network,
    revision: { networkId: network.id, number, moment, trial },
    takenAt: revision.data.taken_at,
  };
  return (
    <CurrentNetwork.Provider value={current}>
      <WritingLine.Provider value={{ line, write }}>
        <Frame number={number} latest={latest} />
      </WritingLine.Provider>
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
  const [search] = useSearchParams();
  const { revision } = useCurrentNetwork();
  const findings = useFindings(revision, useQuiet());
  const state = String(new URLSearchParams(stateOf(search)));
  const suffix = state && `?${state}`;
  const base = `/networks/${networkId}/`;
  const here = useLocation().pathname.slice(base.length);
  // The address itself, which is right already when keys follow each other faster than pages are drawn.
  const goOn = (room: Room) => go(nextIn(room, window.location.pathname.slice(base.length)));
  const go = (to: string) => navigate(`${base}${to}${suffix}`);
  useKeys({
    "ctrl+k": () => setPaletteOpen(true),
    k: () => setPaletteOpen(true),
    d: toggleTheme,
    z: toggleZone,
    ...Object.fromEntries(ROOMS.map((room) => [room.key, () => goOn(room)])),
  });
  const worrying = findings.data?.filter((finding) => finding.severity !== "note").length ?? 0;
  return (
    <div className="h-full flex flex-col">
      <header className="flex flex-wrap items-baseline gap-x-4 gap-y-1 px-4 pt-2 pb-1.5 border-b border-hair shrink-0">
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
        <nav className="flex flex-wrap gap-x-4 items-baseline" aria-label="rooms">
          {ROOMS.map((room) => {
            const views: readonly View[] = room.views;
            const current = viewAt(here);
            const isHere = views.some((view) => view === current);
            return (
              <span key={room.label} className="flex flex-wrap gap-x-3 items-baseline">
                <Link
                  to={`${base}${room.views[0].to}${suffix}`}
                  aria-current={isHere && views.length === 1 ? "page" : undefined}
                  className={`pb-0.5 border-b-2 ${isHere ? "border-ink" : "border-transparent text-faint hover:text-ink"}`}
                >
                  {room.label} <Key>{room.key}</Key>
                </Link>
                {isHere &&
                  views.length > 1 &&
                  views.map((view) => (
                    <Link
                      key={view.to}
                      to={`${base}${view.to}${suffix}`}
                      aria-current={view === current ? "page" : undefined}
                      className={
                        view === current
                          ? "font-semibold underline underline-offset-4"
                          : "text-faint hover:text-ink"
                      }
                    >
                      {view.label}
                      {view.to === PROBLEMS && worrying > 0 && (
                        <span className="ml-1 text-stop">{worrying}</span>
                      )}
                    </Link>
                  ))}
                {room.label === "Model" && !isHere && worrying > 0 && (
                  <Link to={`${base}${PROBLEMS}${suffix}`} className="text-stop -ml-1 hover:underline">
                    {counted(worrying, "problem")}
                  </Link>
                )}
              </span>
            );
          })}
        </nav>
        <span className="ml-auto flex flex-wrap items-baseline gap-x-4 text-faint">
          <button type="button" onClick={() => setPaletteOpen(true)} className="hover:text-ink">
            find <Key>k</Key>
          </button>
          <button type="button" onClick={toggleTheme} className="hover:text-ink">
            light/dark <Key>d</Key>
          </button>
          <button
            type="button"
            onClick={() => signOut.mutate()}
            className="hover:text-ink"
            title={`you are ${session.data?.username}`}
          >
            sign out
          </button>
        </span>
      </header>
      <div className="flex-1 min-h-0 flex max-lg:flex-col">
        <main className="flex-1 min-w-0 min-h-0 overflow-hidden">
          <Outlet />
        </main>
        {revision.trial && <TrialPanel number={revision.trial.number} />}
      </div>
      <Palette open={paletteOpen} onClose={() => setPaletteOpen(false)} go={go} />
    </div>
  );
}
