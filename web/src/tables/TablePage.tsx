import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import type { TableRow } from "../api/client";
import { useMap, useTable } from "../api/queries";
import { WordBox } from "../flows/WordBox";
import { useCurrentNetwork } from "../frame/context";
import { csv, download } from "../ui/download";
import { Key } from "../ui/Key";
import { Empty, Failed, Waiting } from "../ui/states";
import { useKeys } from "../ui/useKeys";

const COLUMNS = "grid grid-cols-[minmax(10rem,1.2fr)_7rem_6rem_5rem_minmax(16rem,2fr)] gap-4";

function hopText(row: TableRow): string {
  if (row.action !== "forward") return `${row.action}s`;
  return row.next_hops
    .map((hop) =>
      hop.address
        ? `${hop.address} by ${hop.interface}${hop.device ? ` (${hop.device})` : ""}`
        : `on ${hop.interface}`,
    )
    .join(", ");
}

/** A device's table, filtered by what is typed. */
export function TablePage() {
  const { revision } = useCurrentNetwork();
  const [search, setSearch] = useSearchParams();
  const map = useMap(revision);
  const device = search.get("device") ?? map.data?.devices.find((one) => one.kind === "router")?.name ?? "";
  const table = useTable(revision, device);
  const [filter, setFilter] = useState("");
  const scroller = useRef<HTMLElement>(null);
  const shown = useMemo(
    () =>
      table.data?.filter((row) => `${row.prefix} ${row.protocol} ${hopText(row)}`.includes(filter.trim())) ??
      [],
    [table.data, filter],
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
      row.protocol,
      row.preference,
      row.metric,
      hopText(row),
    ]);
    download(`${device} table.csv`, csv([titles, ...lines]), "text/csv");
  }
  useKeys({ s: save });
  return (
    <div className="h-full flex flex-col px-6 pt-4">
      <div className="flex items-baseline gap-3 pb-3 text-lg">
        <h2 className="sr-only">Table of a device</h2>
        <span>the table of</span>
        <WordBox
          label="device"
          value={device}
          devicesOnly
          choose={(word) => {
            const next = new URLSearchParams(search);
            next.set("device", word);
            setSearch(next);
          }}
        />
        <input
          aria-label="filter the table"
          placeholder="filter by prefix, protocol or next hop"
          value={filter}
          onChange={(event) => setFilter(event.target.value)}
          className="ml-6 w-80 text-base border-b border-hair bg-transparent"
        />
        <span className="text-faint text-base">
          {shown.length} of {table.data?.length ?? 0} routes
        </span>
        <button type="button" className="ml-auto text-base text-faint hover:text-ink" onClick={save}>
          save as CSV <Key>s</Key>
        </button>
      </div>
      {table.isPending && device && <Waiting what="the table" />}
      {table.isError && <Failed error={table.error} what="This table cannot be shown." />}
      {table.data && (
        <>
          <div
            className={`${COLUMNS} text-faint text-sm border-b border-hair pb-1 overflow-hidden [scrollbar-gutter:stable]`}
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
            className="flex-1 overflow-auto [scrollbar-gutter:stable]"
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
                    className={`${COLUMNS} absolute inset-x-0 border-b border-hair/60 items-baseline`}
                    style={{ transform: `translateY(${item.start}px)`, height: item.size }}
                  >
                    <span className="mono">{row.prefix}</span>
                    <span>{row.protocol}</span>
                    <span className="text-right">{row.preference ?? "–"}</span>
                    <span className="text-right">{row.metric ?? "–"}</span>
                    <span className={`mono truncate ${row.action === "forward" ? "" : "text-stop"}`}>
                      {hopText(row)}
                    </span>
                  </li>
                );
              })}
            </ol>
          </section>
        </>
      )}
    </div>
  );
}
