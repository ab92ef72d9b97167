import { useMemo, useState } from "react";
import type { Forest, ForestRow } from "../api/client";
import { useForest, useMap } from "../api/queries";
import { ContestPanel } from "../contest/ContestPanel";
import { actionText, kindText } from "../contest/words";
import { useCurrentNetwork } from "../frame/context";
import { NetworkMap } from "../map/NetworkMap";
import { forestTraces } from "../map/ways";
import { csv, download } from "../ui/download";
import { Key } from "../ui/Key";
import { VerdictMark, verdictTone } from "../ui/marks";
import { Empty, Failed, Waiting } from "../ui/states";
import { useKeys } from "../ui/useKeys";
import { useQuestion } from "../ui/useQuestion";
import { sitesAlike } from "./sites";

/** Every device's best route for one destination at once: grouped by where it leads, and as a forest. */
export function RoutesPage() {
  const { revision } = useCurrentNetwork();
  const [search, ask] = useQuestion();
  const prefix = search.get("to") ?? "";
  const map = useMap(revision);
  const forest = useForest(revision, prefix);
  const answer = prefix && !forest.isError ? forest.data : undefined;
  const [group, setGroup] = useState<number | null>(null);
  const traces = useMemo(
    () => (answer && map.data ? forestTraces(answer, map.data.cables, group) : undefined),
    [answer, map.data, group],
  );
  const device = search.get("device");
  const vrf = search.get("vrf") ?? "";
  const chosen = answer?.rows.find((row) => row.device === device && shownVrf(row) === vrf) ?? null;

  function choose(row: ForestRow) {
    ask({ device: row.device, vrf: shownVrf(row) }, true);
  }
  function save() {
    const titles = ["device", "vrf", "prefix", "protocol", "preference", "metric", "leads"];
    const lines = (answer?.rows ?? []).map((row) => [
      row.device,
      row.vrf,
      row.route?.prefix ?? "",
      row.route?.protocol ?? "",
      row.route?.preference ?? "",
      row.route?.metric ?? "",
      row.route ? actionText(row.route) : "no route",
    ]);
    download(`routes to ${prefix.replace("/", "_")}.csv`, csv([titles, ...lines]), "text/csv");
  }
  const ordered = answer ? answer.groups.flatMap((one) => one.rows) : [];
  function step(by: number) {
    const at = ordered.findIndex((index) => answer?.rows[index] === chosen);
    const row = answer?.rows[ordered[at + by] ?? -1];
    if (row) choose(row);
  }
  useKeys({
    s: save,
    j: () => step(1),
    ArrowDown: () => step(1),
    u: () => step(-1),
    ArrowUp: () => step(-1),
  });

  return (
    <div className="h-full flex flex-col">
      <Destination prefix={prefix} ask={(to) => ask({ to, device: "", vrf: "" })}>
        {answer && (
          <button type="button" className="text-base text-faint hover:text-ink" onClick={save}>
            save as CSV <Key>s</Key>
          </button>
        )}
      </Destination>
      <div className="flex-1 min-h-0 grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
        <section
          className="border-r border-hair min-h-0 overflow-auto"
          aria-label="routes by where they lead"
          // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reached by key
          tabIndex={0}
        >
          {!prefix && (
            <Empty title="A prefix or an address, and every device's best route for it.">
              Devices are grouped by where their traffic ends. Choose one to see why.
            </Empty>
          )}
          {prefix && forest.isPending && <Waiting what="the routes" />}
          {prefix && forest.isError && (
            <Failed error={forest.error} what="This cannot be asked as it stands." />
          )}
          {answer && answer.sites.length > 0 && <SiteExits forest={answer} />}
          {answer && (
            <Groups forest={answer} group={group} setGroup={setGroup} chosen={chosen} choose={choose} />
          )}
        </section>
        <section className="min-h-0" aria-label="the map">
          {map.data && (
            <NetworkMap
              map={map.data}
              traces={traces}
              chosen={device}
              choose={(name) => {
                const row = answer?.rows.find((one) => one.device === name);
                if (row) choose(row);
              }}
            />
          )}
        </section>
      </div>
      {answer && chosen && (
        <section className="h-[44%] min-h-60 border-t border-hair" aria-label="why">
          <ContestPanel
            instance={{ device: chosen.device, vrf: shownVrf(chosen) }}
            prefix={prefix.includes("/") ? prefix : (chosen.route?.prefix ?? prefix)}
          />
        </section>
      )}
    </div>
  );
}

function shownVrf(row: ForestRow): string {
  return row.vrf === "default" ? "" : row.vrf;
}

function Destination({
  prefix,
  ask,
  children,
}: {
  prefix: string;
  ask: (prefix: string) => void;
  children: React.ReactNode;
}) {
  const [typed, setTyped] = useState<string | null>(null);
  return (
    <form
      className="flex items-baseline gap-3 px-6 py-3 text-lg border-b border-hair"
      onSubmit={(event) => {
        event.preventDefault();
        ask((typed ?? prefix).trim());
        setTyped(null);
        (document.activeElement as HTMLElement | null)?.blur();
      }}
    >
      <h2 className="sr-only">Routes to a destination</h2>
      <label htmlFor="destination">every route to</label>
      <input
        id="destination"
        value={typed ?? prefix}
        placeholder="10.20.1.0/24 or an address"
        autoComplete="off"
        spellCheck={false}
        onChange={(event) => setTyped(event.target.value)}
        onFocus={(event) => event.target.select()}
        className="mono bg-transparent border-b border-faint placeholder:text-faint field-sizing-content min-w-[26ch]"
      />
      <button type="submit" className="text-base text-faint hover:text-ink">
        ask <Key>Enter</Key>
      </button>
      <span className="ml-auto">{children}</span>
    </form>
  );
}

/** From each site: the borders by which traffic passes into another AS, or how it ends without doing so. */
function SiteExits({ forest }: { forest: Forest }) {
  return (
    <section className="px-6 py-2 border-b border-hair bg-sheet" aria-label="exits by site">
      <h3 className="text-faint">the way out, from each site</h3>
      <dl className="grid grid-cols-[minmax(0,11rem)_minmax(0,1fr)] gap-x-3" data-testid="exits">
        {sitesAlike(forest.sites).map(({ names, borders, ends }) => (
          <div key={names.join()} className="contents">
            <dt>{names.join(", ")}</dt>
            <dd>
              {borders.map((border) => (
                <p key={`${border.device} ${border.interface} ${border.onward}`}>
                  <span className="font-semibold">{border.device}</span>{" "}
                  <span className="mono">{border.interface}</span> into AS {border.as}, {border.onward}
                </p>
              ))}
              {ends.length > 0 && <p className="text-faint">{ends.join("; ")}</p>}
            </dd>
          </div>
        ))}
      </dl>
    </section>
  );
}

function Groups({
  forest,
  group,
  setGroup,
  chosen,
  choose,
}: {
  forest: Forest;
  group: number | null;
  setGroup: (group: number | null) => void;
  chosen: ForestRow | null;
  choose: (row: ForestRow) => void;
}) {
  return (
    <ol data-testid="groups">
      {forest.groups.map((one, index) => (
        <li key={one.label} className="border-b border-hair px-6 py-2">
          <button
            type="button"
            aria-pressed={group === index}
            onClick={() => setGroup(group === index ? null : index)}
            className={`text-left border-b-2 ${group === index ? "border-ink" : "border-transparent hover:border-hair"}`}
          >
            {[...new Set(one.exits.map((exit) => exit.how))].map((how) => {
              const verdict = how === "delivered" ? "arrives" : how;
              return (
                <span key={how} className={`mr-1 ${verdictTone(verdict)}`}>
                  <VerdictMark verdict={verdict} size={13} />
                </span>
              );
            })}
            <span className="font-semibold">{one.label}</span>{" "}
            <span className="text-faint">
              {one.rows.length} {one.rows.length === 1 ? "table" : "tables"}
            </span>
          </button>
          <ol>
            {one.rows.map((number) => {
              const row = forest.rows[number];
              if (!row) return null;
              return (
                <li key={`${row.device} ${row.vrf}`}>
                  <button
                    type="button"
                    onClick={() => choose(row)}
                    aria-pressed={row === chosen}
                    className={`w-full text-left grid grid-cols-[11rem_9.5rem_minmax(0,1fr)] gap-3 items-baseline py-px hover:bg-wash ${row === chosen ? "bg-mark/50" : ""}`}
                  >
                    <span className="truncate">
                      {row.device}
                      {row.vrf !== "default" && <span className="text-faint"> VRF {row.vrf}</span>}
                    </span>
                    <span className="text-faint truncate" title={row.route?.kind}>
                      {row.route ? kindText(row.route) : "no route"}
                    </span>
                    <span className="mono truncate">{row.route && actionText(row.route)}</span>
                  </button>
                </li>
              );
            })}
          </ol>
        </li>
      ))}
    </ol>
  );
}
