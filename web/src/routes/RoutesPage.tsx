import { useMemo, useState } from "react";
import { useForest, useMap } from "../api/answers";
import type { ForestRow } from "../api/client";
import { ContestPanel } from "../contest/ContestPanel";
import { actionText } from "../contest/words";
import { useCurrentNetwork } from "../frame/context";
import { NetworkMap } from "../map/NetworkMap";
import { cablesByLink, forestTraces } from "../map/ways";
import { csv, download } from "../ui/download";
import { Key } from "../ui/Key";
import { Empty, Failed, Waiting } from "../ui/states";
import { useKeys } from "../ui/useKeys";
import { useQuestion } from "../ui/useQuestion";
import { useStepper } from "../ui/useStepper";
import { Groups, SiteExits } from "./Groups";

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
    () => (answer && map.data ? forestTraces(answer, cablesByLink(map.data), group) : undefined),
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
  const ordered = answer
    ? answer.groups.flatMap((one) => one.rows.flatMap((index) => answer.rows[index] ?? []))
    : [];
  useStepper(ordered, (row) => row === chosen, choose);
  useKeys({ s: save });

  return (
    <div className="h-full flex flex-col">
      <Destination prefix={prefix} ask={(to) => ask({ to, device: "", vrf: "" })}>
        {answer && (
          <button type="button" className="text-base text-faint hover:text-ink" onClick={save}>
            save as CSV <Key>s</Key>
          </button>
        )}
      </Destination>
      <div className="flex-1 min-h-0 grid max-lg:grid-cols-[minmax(0,1fr)] lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)] max-lg:auto-rows-[75vh] max-lg:overflow-auto">
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
