import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef, useState } from "react";
import { Link } from "react-router";
import type { PolicyReport, PolicyRoute, PolicyUse } from "../api/client";
import { usePolicies, usePolicy } from "../api/queries";
import { useCurrentNetwork } from "../frame/context";
import { SourceLink } from "../source/SourceLink";
import { csv, download } from "../ui/download";
import { Key } from "../ui/Key";
import { Empty, Failed, Waiting } from "../ui/states";
import { useKeys } from "../ui/useKeys";
import { useQuestion } from "../ui/useQuestion";
import { changesText, listed, type Only, passes } from "./words";

/** What a routing policy does to every route that meets it, wherever it is asked. */
export function PoliciesPage() {
  const { revision } = useCurrentNetwork();
  const [search, ask] = useQuestion();
  const policies = usePolicies(revision);
  const [typed, setTyped] = useState("");
  const device = search.get("device") ?? "";
  const name = search.get("policy") ?? "";
  const report = usePolicy(revision, device, name);
  const shown = listed(policies.data ?? [], typed);
  const field = useRef<HTMLInputElement>(null);

  function step(by: number) {
    const at = shown.findIndex((one) => one.device === device && one.policy === name);
    const next = shown[at + by];
    if (next) ask({ device: next.device, policy: next.policy }, true);
  }
  useKeys({
    j: () => step(1),
    ArrowDown: () => step(1),
    u: () => step(-1),
    ArrowUp: () => step(-1),
    "/": () => field.current?.focus(),
  });
  if (policies.isPending) return <Waiting what="the policies" />;
  if (policies.isError) return <Failed error={policies.error} what="The policies cannot be shown." />;
  if (policies.data.length === 0)
    return <Empty title="No device of this network has a routing policy.">Routes pass unchanged.</Empty>;
  return (
    <div className="h-full grid grid-cols-[19rem_minmax(0,1fr)]">
      <section className="border-r border-hair min-h-0 flex flex-col" aria-label="policies">
        <label className="px-4 pt-3 pb-2 flex items-baseline gap-2">
          <span className="sr-only">find a policy</span>
          <input
            ref={field}
            value={typed}
            onChange={(event) => setTyped(event.target.value)}
            placeholder="device or policy"
            spellCheck={false}
            className="bg-transparent border-b border-faint placeholder:text-faint w-full"
          />
          <Key>/</Key>
        </label>
        <ol className="flex-1 overflow-auto pb-4" data-testid="policies">
          {shown.map((one, index) => (
            <li key={`${one.device} ${one.policy}`}>
              {one.device !== shown[index - 1]?.device && (
                <h3 className="px-4 pt-2 text-faint">{one.device}</h3>
              )}
              <button
                type="button"
                aria-pressed={one.device === device && one.policy === name}
                onClick={() => ask({ device: one.device, policy: one.policy })}
                className={`w-full text-left px-4 pl-7 py-px hover:bg-wash ${one.device === device && one.policy === name ? "bg-mark/50" : ""}`}
              >
                {one.policy}
              </button>
            </li>
          ))}
        </ol>
      </section>
      <section className="min-h-0" aria-label="what the policy does">
        {!name && (
          <Empty title="A policy, and what it does to every route that meets it.">
            Which statement decides each route, what it changes, what never matches, and what only the closing
            reject drops.
          </Empty>
        )}
        {name && report.isPending && <Waiting what="the policy" />}
        {name && report.isError && <Failed error={report.error} what="This policy cannot be shown." />}
        {name && report.data && <Report key={`${device} ${name}`} report={report.data} />}
      </section>
    </div>
  );
}

function Report({ report }: { report: PolicyReport }) {
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
  const { network, revision } = useCurrentNetwork();
  const older: Record<string, string> =
    revision.number === network.latest?.number ? {} : { revision: String(revision.number) };
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
