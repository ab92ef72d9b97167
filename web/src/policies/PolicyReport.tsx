import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { PolicyReport, PolicyRoute, PolicyUse } from "../api/client";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { SourceLink } from "../source/SourceLink";
import { csv, download } from "../ui/download";
import { Key } from "../ui/Key";
import { useKeys } from "../ui/useKeys";
import { changesText, type Only, passes } from "./words";

export function Report({ report }: { report: PolicyReport }) {
  const [number, setNumber] = useState(0);
  const [only, setOnly] = useState<Only>(null);
  const use = report.uses[number];
  const routes = use?.routes.filter((route) => passes(route, only)) ?? [];

  function save() {
    if (!use) return;
    const titles = ["prefix", "protocol", "AS path", "verdict", "statement", "changes"];
    const lines = use.routes.map((route) => [
      route.prefix,
      route.protocol,
      route.as_path ?? "",
      route.accepted ? "accepted" : "rejected",
      route.statement ?? "closing reject",
      changesText(route),
    ]);
    download(`${report.device} ${report.policy}.csv`, csv([titles, ...lines]), "text/csv");
  }
  useKeys({ s: save });
  return (
    <div className="h-full flex flex-col">
      <header className="px-5 pt-3 pb-2 border-b border-hair">
        <div className="flex items-baseline gap-3">
          <h2 className="text-lg">
            <span className="font-semibold">{report.policy}</span> of {report.device}
          </h2>
          {report.place && <SourceLink place={report.place} />}
          {use && (
            <button type="button" className="ml-auto text-faint hover:text-ink" onClick={save}>
              save as CSV <Key>s</Key>
            </button>
          )}
        </div>
        {report.uses.length === 0 && <p className="text-stop">Nothing asks this policy.</p>}
        <ol data-testid="uses">
          {report.uses.map((one, index) => (
            <li key={one.what}>
              <button
                type="button"
                aria-pressed={index === number}
                onClick={() => {
                  setNumber(index);
                  setOnly(null);
                }}
                className={`text-left border-b-2 ${index === number ? "border-ink" : "border-transparent hover:border-hair"}`}
              >
                {one.what}
              </button>{" "}
              <span className="text-faint">
                {one.total} {one.total === 1 ? "route" : "routes"}, {one.accepted} accepted, {one.changed}{" "}
                changed
              </span>
            </li>
          ))}
        </ol>
      </header>
      <Statements report={report} use={use} only={only} setOnly={setOnly} />
      {use && <RouteList routes={routes} use={use} device={report.device} />}
    </div>
  );
}

/** The statements in order, how many routes each one matched here, and the closing reject under them. */
function Statements({
  report,
  use,
  only,
  setOnly,
}: {
  report: PolicyReport;
  use: PolicyUse | undefined;
  only: Only;
  setOnly: (only: Only) => void;
}) {
  const most = Math.max(1, use?.total ?? 1);
  const counts = new Map(use?.statements.map((one) => [one.number, one.count]));
  const rows = [
    ...report.statements.map((one) => ({
      key: one.number as Only,
      label: one.name || one.description || `statement ${one.number}`,
      result: one.result as string,
      count: counts.get(one.number) ?? 0,
      place: one.place,
      never: one.matched === 0 && report.uses.length > 0,
    })),
    {
      key: "closing" as Only,
      label: "no statement decides",
      result: "reject",
      count: use?.closing ?? 0,
      place: null,
      never: false,
    },
  ];
  return (
    <ol className="px-5 py-2 border-b border-hair bg-sheet" data-testid="statements">
      {rows.map((row) => (
        <li
          key={String(row.key)}
          className="grid grid-cols-[2ch_minmax(0,1fr)_4rem_10rem_14rem] gap-3 items-baseline"
        >
          <span className="text-faint text-right">{row.key === "closing" ? "" : row.key}</span>
          <button
            type="button"
            aria-pressed={only === row.key}
            onClick={() => setOnly(only === row.key ? null : row.key)}
            className={`min-h-6 text-left truncate ${only === row.key ? "bg-mark/60" : ""} ${row.key === "closing" ? "italic" : ""}`}
          >
            {row.label}
          </button>
          <span className={row.result === "reject" ? "text-stop" : "text-faint"}>{row.result}</span>
          <span className="flex items-center gap-2">
            <span
              className={`inline-block h-2 ${row.result === "reject" ? "bg-stop" : "bg-forward"}`}
              style={{ width: `${(70 * row.count) / most}px` }}
            />
            {row.never ? <span className="text-stop">never matches</span> : row.count}
          </span>
          <span className="text-right truncate">{row.place && <SourceLink place={row.place} />}</span>
        </li>
      ))}
    </ol>
  );
}

function RouteList({ routes, use, device }: { routes: PolicyRoute[]; use: PolicyUse; device: string }) {
  const { network } = useCurrentNetwork();
  const [search] = useSearchParams();
  const older = stateOf(search);
  const scroller = useRef<HTMLElement>(null);
  const rows = useVirtualizer({
    count: routes.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => 25,
    overscan: 20,
  });
  return (
    <section
      ref={scroller}
      className="flex-1 overflow-auto px-5 py-1"
      // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reached by key
      tabIndex={0}
      aria-label="routes"
    >
      {use.total > use.routes.length && (
        <p className="text-faint italic">
          the first {use.routes.length} of {use.total} are listed; all are counted
        </p>
      )}
      {routes.length === 0 && <p className="text-faint italic">No route is of this kind here.</p>}
      <ol className="relative" style={{ height: rows.getTotalSize() }} data-testid="policy-routes">
        {rows.getVirtualItems().map((item) => {
          const route = routes[item.index];
          if (!route) return null;
          return (
            <li
              key={item.key}
              className="absolute inset-x-0 grid grid-cols-[14rem_8rem_8rem_minmax(0,1fr)] gap-3 border-t border-hair"
              style={{ transform: `translateY(${item.start}px)`, height: item.size }}
            >
              <Link
                to={`/networks/${network.id}/routes?${new URLSearchParams({ to: route.prefix, device, ...older })}`}
                className="mono truncate hover:underline underline-offset-2"
                title="every route to it, and why"
              >
                {route.prefix}
              </Link>
              <span className="text-faint truncate" title={route.as_path ?? ""}>
                {route.as_path || route.protocol}
              </span>
              <span className={route.accepted ? "" : "text-stop"}>
                {route.accepted ? "accepted" : "rejected"}
                <span className="text-faint"> by {route.statement ?? "none"}</span>
              </span>
              <span className="truncate" title={changesText(route)}>
                {changesText(route)}
              </span>
            </li>
          );
        })}
      </ol>
    </section>
  );
}
