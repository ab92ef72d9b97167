import { useMemo, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { isDump, useFindings, useOutline, useSource, useSources } from "../api/answers";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { Key } from "../ui/Key";
import { Failed, Waiting } from "../ui/states";
import { useKeys } from "../ui/useKeys";
import { laidOut } from "./laidOut";
import { NameList } from "./NameList";
import SourceText from "./SourceText";
import { Statements } from "./Statements";

/** The source text by file and device, and what the line that is looked at does. */
export default function SourcePage() {
  const { revision } = useCurrentNetwork();
  const [search, setSearch] = useSearchParams();
  const navigate = useNavigate();
  const sources = useSources(revision);
  const findings = useFindings(revision);
  const file = search.get("file") ?? sources.data?.[0]?.file;
  const dumped = isDump(file ?? "");
  const source = useSource(revision, file, Number(search.get("line")) || 1);
  const outline = useOutline(revision, file);
  const shownText = useMemo(() => laidOut(source.data?.text ?? ""), [source.data]);
  const asked = { line: Number(search.get("line")), column: Number(search.get("column")) || 1 };
  const first = source.data?.first ?? 1;
  const { line, column } = asked.line ? shownText.at(asked.line - first + 1, asked.column) : {};
  const [looked, setLooked] = useState<{ file: string; line: number } | null>(null);
  const current = looked?.file === file ? looked?.line : line;
  useKeys({ b: () => navigate(-1) });

  const files = useMemo(() => (sources.data ?? []).map((one) => ({ name: one.file })), [sources.data]);
  const devices = useMemo(
    () => (outline.data ?? []).map((one) => ({ ...one, name: one.device, detail: one.kind })),
    [outline.data],
  );
  const marks = (findings.data ?? []).flatMap((finding) =>
    finding.places
      .slice(0, 1)
      .filter((place) => place.file === file)
      .map((place) => ({ ...shownText.at(place.line, place.column), message: finding.message })),
  );
  function go(to: string, at: { line: number; column: number } | null) {
    const next = new URLSearchParams(search);
    next.set("file", to);
    for (const key of ["line", "column"] as const)
      if (at) next.set(key, String(at[key]));
      else next.delete(key);
    setLooked(null);
    setSearch(next);
  }
  if (sources.isError) return <Failed error={sources.error} what="The source cannot be shown." />;
  return (
    <div className="h-full grid max-lg:grid-cols-[minmax(0,1fr)] lg:grid-cols-[15rem_minmax(0,1fr)] lg:grid-rows-[minmax(0,1fr)] max-lg:grid-rows-[30vh_75vh] max-lg:overflow-auto">
      <div className="border-r border-hair flex flex-col min-h-0">
        <NameList all={files} noun="file" current={file} choose={(one) => go(one.name, null)} />
        {devices.length > 1 && file && (
          <NameList all={devices} noun="device" choose={(one) => go(file, one)} />
        )}
      </div>
      <div className="min-w-0 min-h-0 flex flex-col">
        <p className="px-4 py-1.5 border-b border-hair flex flex-wrap gap-x-4 items-baseline">
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
          {dumped && source.data?.lines && (
            <span className="text-faint">
              records {first.toLocaleString("en")} to{" "}
              {Math.min(first + source.data.text.split("\n").length - 1, source.data.lines).toLocaleString(
                "en",
              )}{" "}
              of {source.data.lines.toLocaleString("en")}, written out to be read
            </span>
          )}
          {file && !dumped && !file.startsWith("trial/") && (
            <Link
              to={`../edit?${new URLSearchParams({ ...stateOf(search), file })}`}
              relative="path"
              className="text-good underline underline-offset-2"
            >
              edit it in a trial
            </Link>
          )}
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
              first={dumped ? first : undefined}
              line={line}
              column={column}
              marks={marks}
              look={(on) => setLooked({ file: file ?? "", line: on })}
            />
          )}
        </div>
        {source.data && file && !dumped && <Statements file={file} span={shownText.original(current ?? 1)} />}
      </div>
    </div>
  );
}
