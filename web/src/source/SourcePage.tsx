import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import type { Schemas } from "../api/client";
import { useFindings, useOutline, useSource, useSources } from "../api/queries";
import { useCurrentNetwork } from "../frame/context";
import { Key } from "../ui/Key";
import { Failed, Waiting } from "../ui/states";
import { useKeys } from "../ui/useKeys";
import { laidOut } from "./laidOut";
import SourceText from "./SourceText";
import { Statements } from "./Statements";

type Heading = Schemas["Heading"];

/** The devices of a file, to jump to. */
function Outline({ headings, choose }: { headings: Heading[]; choose: (heading: Heading) => void }) {
  const [typed, setTyped] = useState("");
  const scroller = useRef<HTMLDivElement>(null);
  const shown = headings.filter((one) => one.device.includes(typed));
  const rows = useVirtualizer({
    count: shown.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => 26,
    overscan: 20,
  });
  return (
    <div className="flex-[2] min-h-0 flex flex-col border-t border-hair" data-testid="outline">
      <input
        aria-label="filter the devices of this file"
        placeholder={`filter ${headings.length} devices`}
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
        className="bg-transparent border-b border-hair px-3 py-2"
      />
      <div ref={scroller} className="flex-1 overflow-auto">
        <ul className="relative" style={{ height: rows.getTotalSize() }}>
          {rows.getVirtualItems().map((item) => {
            const one = shown[item.index];
            return one ? (
              <li
                key={item.key}
                className="absolute inset-x-0"
                style={{ transform: `translateY(${item.start}px)`, height: item.size }}
              >
                <button
                  type="button"
                  className="mono w-full text-left px-3 truncate leading-[26px] hover:bg-wash"
                  onClick={() => choose(one)}
                >
                  {one.device} <span className="text-faint text-sm">{one.kind}</span>
                </button>
              </li>
            ) : null;
          })}
        </ul>
      </div>
    </div>
  );
}

export default function SourcePage() {
  const { revision } = useCurrentNetwork();
  const [search, setSearch] = useSearchParams();
  const navigate = useNavigate();
  const sources = useSources(revision);
  const findings = useFindings(revision);
  const [filter, setFilter] = useState("");
  const file = search.get("file") ?? sources.data?.[0]?.file;
  const source = useSource(revision, file);
  const shownText = useMemo(() => laidOut(source.data?.text ?? ""), [source.data]);
  const asked = { line: Number(search.get("line")), column: Number(search.get("column")) || 1 };
  const { line, column } = asked.line ? shownText.at(asked.line, asked.column) : {};
  const [looked, setLooked] = useState<{ file: string; line: number } | null>(null);
  const outline = useOutline(revision, file);
  const current = looked?.file === file ? looked?.line : line;
  const scroller = useRef<HTMLDivElement>(null);
  const shown = useMemo(
    () => sources.data?.filter((one) => one.file.includes(filter)) ?? [],
    [sources.data, filter],
  );
  const rows = useVirtualizer({
    count: shown.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => 26,
    overscan: 20,
  });
  useKeys({ b: () => navigate(-1) });
  const marks = (findings.data ?? []).flatMap((finding) =>
    finding.places
      .slice(0, 1)
      .filter((place) => place.file === file)
      .map((place) => ({ ...shownText.at(place.line, place.column), message: finding.message })),
  );
  if (sources.isError) return <Failed error={sources.error} what="The source cannot be shown." />;
  return (
    <div className="h-full grid max-lg:grid-cols-[minmax(0,1fr)] lg:grid-cols-[15rem_minmax(0,1fr)] lg:grid-rows-[minmax(0,1fr)] max-lg:grid-rows-[30vh_75vh] max-lg:overflow-auto">
      <div className="border-r border-hair flex flex-col min-h-0">
        <input
          aria-label="filter the files"
          placeholder={`filter ${sources.data?.length ?? ""} files`}
          value={filter}
          onChange={(event) => setFilter(event.target.value)}
          className="bg-transparent border-b border-hair px-3 py-2"
        />
        <div ref={scroller} className="flex-1 overflow-auto">
          <ul className="relative" style={{ height: rows.getTotalSize() }}>
            {rows.getVirtualItems().map((item) => {
              const one = shown[item.index];
              if (!one) return null;
              return (
                <li
                  key={item.key}
                  className="absolute inset-x-0"
                  style={{ transform: `translateY(${item.start}px)`, height: item.size }}
                >
                  <button
                    type="button"
                    aria-current={one.file === file}
                    className={`mono w-full text-left px-3 truncate leading-[26px] ${one.file === file ? "bg-wash" : "hover:bg-wash"}`}
                    onClick={() => {
                      const next = new URLSearchParams(search);
                      next.set("file", one.file);
                      next.delete("line");
                      next.delete("column");
                      setSearch(next);
                    }}
                  >
                    {one.file}
                  </button>
                </li>
              );
            })}
          </ul>
        </div>
        {outline.data && outline.data.length > 1 && file && (
          <Outline
            headings={outline.data}
            choose={(heading) => {
              const next = new URLSearchParams(search);
              next.set("file", file);
              next.set("line", String(heading.line));
              next.set("column", String(heading.column));
              setLooked(null);
              setSearch(next);
            }}
          />
        )}
      </div>
      <div className="min-w-0 min-h-0 flex flex-col">
        <p className="px-4 py-1.5 border-b border-hair flex gap-4 items-baseline">
          <span className="mono" data-testid="source-file">
            {file}
            {asked.line ? `:${asked.line}` : ""}
          </span>
          {shownText.isLaidOut && (
            <span className="text-faint">laid out to be read; in the file it is on fewer lines</span>
          )}
          <button type="button" className="text-faint hover:text-ink" onClick={() => navigate(-1)}>
            back <Key>b</Key>
          </button>
          {marks.length > 0 && (
            <span className="text-stop">
              {marks.length === 1
                ? "one finding, its line underlined"
                : `${marks.length} findings, their lines underlined`}
            </span>
          )}
        </p>
        <div className="flex-1 min-h-0">
          {source.isPending && <Waiting what="the text" />}
          {source.isError && <Failed error={source.error} what="The text cannot be shown." />}
          {source.data && (
            <SourceText
              text={shownText.text}
              line={line}
              column={column}
              marks={marks}
              look={(on) => setLooked({ file: file ?? "", line: on })}
            />
          )}
        </div>
        {source.data && file && <Statements file={file} span={shownText.original(current ?? 1)} />}
      </div>
    </div>
  );
}
