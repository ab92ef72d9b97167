import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import { MOST_ROUTES, useDrift, useInstances, useMap, useTable } from "../api/answers";
import type { Difference } from "../api/client";
import { ContestPanel } from "../contest/ContestPanel";
import { actionText, kindText } from "../contest/words";
import { WordBox } from "../flows/WordBox";
import { useCurrentNetwork } from "../frame/context";
import { csv, download } from "../ui/download";
import { Key } from "../ui/Key";
import { Empty, Failed, Waiting } from "../ui/states";
import { useKeys } from "../ui/useKeys";
import { useQuestion } from "../ui/useQuestion";
import { useStepper } from "../ui/useStepper";
import { counted } from "../ui/words";
import { prefixTyped } from "./prefixTyped";

/** Narrower than this, the columns are scrolled to. */
const WIDE = "min-w-[56rem]";
const COLUMNS = "grid grid-cols-[minmax(10rem,1.1fr)_11rem_6rem_5rem_minmax(16rem,2fr)] gap-4";

/** A device's table, filtered by what is typed. */
export function TablePage() {
  const { revision } = useCurrentNetwork();
  const [search, ask] = useQuestion();
  const map = useMap(revision);
  const device = search.get("device") ?? map.data?.devices.find((one) => one.kind === "router")?.name ?? "";
  const vrf = search.get("vrf") ?? "";
  const instance = { device, vrf };
  const [filter, setFilter] = useState("");
  const whole = useTable(revision, instance);
  const isLong = (whole.data?.length ?? 0) > MOST_ROUTES;
  // Of a table as long as the internet's, what is typed is asked of the server.
  const within = isLong ? prefixTyped(filter) : "";
  const part = useTable(revision, instance, within, within !== "");
  const table = within ? part : whole;
  const drift = useDrift(revision, instance);
  const instances = useInstances(revision);
  const vrfs = (instances.data ?? []).filter((one) => one.device === device).map((one) => one.vrf);
  const prefix = search.get("prefix");
  const differences = useMemo(
    () => new Map((drift.data?.differences ?? []).map((one) => [one.prefix, one])),
    [drift.data],
  );
  const [onlyDrift, setOnlyDrift] = useState(false);
  const scroller = useRef<HTMLElement>(null);
  const shown = useMemo(
    () =>
      table.data?.filter(
        (row) =>
          (within !== "" || `${row.prefix} ${kindText(row)} ${actionText(row)}`.includes(filter.trim())) &&
          (!onlyDrift || differences.has(row.prefix)),
      ) ?? [],
    [table.data, filter, within, onlyDrift, differences],
  );
  const rows = useVirtualizer({
    count: shown.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => 27,
    overscan: 20,
  });
  function save() {
    const titles = ["device", "prefix", "protocol", "preference", "metric", "next hops"];
    const lines = shown.map((row) => [
      device,
      row.prefix,
      kindText(row),
      row.preference,
      row.metric,
      actionText(row),
    ]);
    download(`${device} table.csv`, csv([titles, ...lines]), "text/csv");
  }
  useStepper(
    shown,
    (row) => row.prefix === prefix,
    (row, at) => {
      ask({ prefix: row.prefix });
      rows.scrollToIndex(at);
    },
  );
  useKeys({ s: save });
  const extra = (drift.data?.differences ?? []).filter((one) => one.what === "extra");
  return (
    <div className="h-full flex flex-col pt-4">
      <div className="flex flex-wrap items-baseline gap-x-3 gap-y-1 pb-3 text-lg px-6">
        <h2 className="sr-only">Table of a device</h2>
        <span>the table of</span>
        <WordBox
          label="device"
          value={device}
          devicesOnly
          choose={(word) => ask({ device: word, vrf: "", prefix: "" })}
        />
        {vrfs.length > 0 &&
          ["", ...vrfs].map((name) => (
            <button
              key={name}
              type="button"
              aria-pressed={vrf === name}
              onClick={() => ask({ vrf: name, prefix: "" })}
              className={`text-base border-b-2 ${vrf === name ? "border-ink" : "border-transparent text-faint hover:text-ink"}`}
            >
              {name ? `VRF ${name}` : "default"}
            </button>
          ))}
        <input
          aria-label="filter the table"
          placeholder="filter by prefix, protocol or next hop"
          value={filter}
          onChange={(event) => setFilter(event.target.value)}
          className="ml-6 w-80 text-base border-b border-hair bg-transparent"
        />
        <span className="text-faint text-base">
          {isLong && !within
            ? `${shown.length.toLocaleString("en")} of the first ${MOST_ROUTES.toLocaleString("en")} routes: type a prefix or an address for its own`
            : `${shown.length} of ${counted(table.data?.length ?? 0, "route")}`}
        </span>
        {drift.data?.compared && (
          <button
            type="button"
            aria-pressed={onlyDrift}
            onClick={() => setOnlyDrift(!onlyDrift)}
            className={`text-base border-b-2 ${onlyDrift ? "border-ink" : "border-transparent"} ${differences.size ? "text-stop" : "text-good"}`}
          >
            {differences.size ? `drift at ${differences.size}` : "as observed"}
          </button>
        )}
        <button type="button" className="ml-auto text-base text-faint hover:text-ink" onClick={save}>
          save as CSV <Key>s</Key>
        </button>
      </div>
      {table.isPending && device && <Waiting what="the table" />}
      {table.isError && <Failed error={table.error} what="This table cannot be shown." />}
      {table.data && (
        <div className="flex-1 min-h-0 flex flex-col overflow-x-auto">
          <div
            className={`${COLUMNS} ${WIDE} mx-6 text-faint text-sm border-b border-hair pb-1 overflow-hidden [scrollbar-gutter:stable]`}
          >
            <span>prefix</span>
            <span>protocol</span>
            <span className="text-right">preference</span>
            <span className="text-right">metric</span>
            <span>next hops</span>
          </div>
          {shown.length === 0 && <Empty title="No route of this kind in the table." />}
          <section
            ref={scroller}
            className={`flex-1 mx-6 overflow-auto ${WIDE} [scrollbar-gutter:stable]`}
            // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reached by key
            tabIndex={0}
            aria-label="routes"
          >
            <ol className="relative" style={{ height: rows.getTotalSize() }}>
              {rows.getVirtualItems().map((item) => {
                const row = shown[item.index];
                if (!row) return null;
                return (
                  <li
                    key={item.key}
                    className={`${COLUMNS} absolute inset-x-0 border-b border-hair/60 items-baseline ${row.prefix === prefix ? "bg-mark/50" : "hover:bg-wash"}`}
                    style={{ transform: `translateY(${item.start}px)`, height: item.size }}
                  >
                    <button
                      type="button"
                      className="mono text-left hover:underline underline-offset-2"
                      aria-pressed={row.prefix === prefix}
                      title="why this route"
                      onClick={() => ask({ prefix: row.prefix === prefix ? "" : row.prefix })}
                    >
                      {row.prefix}
                    </button>
                    <span className="truncate">{kindText(row)}</span>
                    <span className="text-right">{row.preference ?? "–"}</span>
                    <span className="text-right">{row.metric ?? "–"}</span>
                    <span className={`mono truncate ${row.action === "forward" ? "" : "text-stop"}`}>
                      {actionText(row)}
                      {differences.has(row.prefix) && (
                        <DriftNote difference={differences.get(row.prefix) as Difference} />
                      )}
                    </span>
                  </li>
                );
              })}
            </ol>
          </section>
          {extra.length > 0 && (
            <p className="mx-6 py-1 text-sm text-faint border-t border-hair" data-testid="drift-extra">
              observed and not computed:{" "}
              {extra.map((one) => (
                <span key={one.prefix} className="mono text-stop mr-3" title={one.observed}>
                  {one.prefix}
                </span>
              ))}
            </p>
          )}
          {prefix && (
            <section className="h-[46%] min-h-60 border-t border-hair" aria-label="why">
              <ContestPanel instance={instance} prefix={prefix} />
            </section>
          )}
        </div>
      )}
    </div>
  );
}

function DriftNote({ difference }: { difference: Difference }) {
  return (
    <span className="text-stop ml-3" title={`observed: ${difference.observed || "nothing"}`}>
      {difference.what === "missing" ? "not observed" : `observed: ${difference.observed}`}
    </span>
  );
}
