import { useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { useSource } from "../api/answers";
import type { Check, Place, Stop, Walk } from "../api/client";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { laidOut } from "../source/laidOut";
import { SourceLink } from "../source/SourceLink";
import { DeviceChanges } from "../trials/DeviceChanges";
import { type Direction, tone } from "../ui/marks";
import { checksOf } from "./LadderView";

const STATE_PATHS = { pass: "M3 8.5 6.5 12 13 4.5", fail: "M4 4 12 12M12 4 4 12", note: "M8 3V9M8 12V13" };

/** Every check of the chosen stop, both ways, and the source lines behind the one looked at. */
export function EvidencePanel({ walk, device }: { walk: Walk; device: string }) {
  const forward = walk.forward.stops.filter((stop) => stop.device === device);
  const back = walk.return?.stops.filter((stop) => stop.device === device) ?? [];
  const all = [...forward, ...back].flatMap(checksOf);
  const telling =
    all.find((check) => check.state === "fail" && check.place) ?? all.find((check) => check.place);
  const [looked, setLooked] = useState<Place | null>(null);
  const belongs = looked && all.some((check) => same(check.place, looked));
  const place = belongs ? looked : (telling?.place ?? null);
  return (
    <div className="h-full flex flex-col" data-testid="evidence">
      <DeviceChanges device={device} stops={[...forward, ...back]} />
      <div className="flex-1 min-h-0 grid max-lg:grid-cols-[minmax(0,1fr)] lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)_minmax(0,1.1fr)] max-lg:overflow-auto">
        <StopChecks title="forward" direction="forward" stops={forward} place={place} look={setLooked} />
        <StopChecks title="return" direction="return" stops={back} place={place} look={setLooked} />
        <Excerpt place={place} />
      </div>
    </div>
  );
}

function same(one: Place | null, other: Place | null): boolean {
  return (
    one !== null &&
    other !== null &&
    one.file === other.file &&
    one.line === other.line &&
    one.column === other.column
  );
}

function StopChecks({
  title,
  direction,
  stops,
  place,
  look,
}: {
  title: string;
  direction: Direction;
  stops: Stop[];
  place: Place | null;
  look: (place: Place) => void;
}) {
  return (
    <section
      className="overflow-auto px-3 py-2 border-r border-hair text-[14px]"
      aria-label={`${title} checks`}
    >
      <h3 className={`font-semibold ${tone(direction)}`}>{title}</h3>
      {stops.length === 0 && <p className="text-faint">The {title} strand does not come by here.</p>}
      {stops.map((stop) => (
        <div key={`${stop.ingress}${stop.header}`} className="mb-2">
          <p className="mono text-[12px] text-faint">
            {stop.header}
            {stop.ingress ? `, in by ${stop.ingress}` : ", sent from here"}
          </p>
          <ol>
            {checksOf(stop).map((check) => (
              <CheckLine
                key={`${check.kind}${check.message}`}
                check={check}
                stop={stop}
                place={place}
                look={look}
              />
            ))}
          </ol>
          {stop.notes.map((note) => (
            <p key={note} className="text-faint italic">
              not represented: {note}
            </p>
          ))}
        </div>
      ))}
    </section>
  );
}

function CheckLine({
  check,
  stop,
  place,
  look,
}: {
  check: Check;
  stop: Stop;
  place: Place | null;
  look: (place: Place) => void;
}) {
  const at = check.place;
  return (
    <li className={`flex gap-2 py-0.5 ${same(at, place) ? "bg-mark/50" : ""}`}>
      <svg
        width="13"
        height="13"
        viewBox="0 0 16 16"
        className={`mt-1 shrink-0 ${check.state === "fail" ? "text-stop" : check.state === "note" ? "text-return" : "text-good"}`}
        role="img"
        aria-label={check.state}
      >
        <title>{check.state}</title>
        <path d={STATE_PATHS[check.state]} fill="none" stroke="currentColor" strokeWidth="2.2" />
      </svg>
      <span className="min-w-0">
        {at ? (
          <button
            type="button"
            className="text-left hover:underline underline-offset-2"
            onClick={() => look(at)}
          >
            {check.message}
          </button>
        ) : (
          check.message
        )}
        {check.route && <WhyLink stop={stop} prefix={check.route.prefix} />}
        {check.written && <code className="block text-[12px] text-faint break-words">{check.written}</code>}
      </span>
    </li>
  );
}

/** To the contest behind a table's route. */
function WhyLink({ stop, prefix }: { stop: Stop; prefix: string }) {
  const { network } = useCurrentNetwork();
  const [search] = useSearchParams();
  const query = new URLSearchParams({ device: stop.device, prefix, ...stateOf(search) });
  if (stop.vrf !== "default") query.set("vrf", stop.vrf);
  return (
    <>
      {" "}
      <Link
        to={`/networks/${network.id}/routes/table?${query}`}
        className="text-forward underline underline-offset-2"
        data-testid="why-link"
      >
        why
      </Link>
    </>
  );
}

const AROUND = 4;
const LONG = 300;

/** A few lines of the source around a place; of a very long line, the part around its column. */
function Excerpt({ place }: { place: Place | null }) {
  const { revision } = useCurrentNetwork();
  const source = useSource(revision, place?.file, place?.line);
  const shownText = useMemo(() => laidOut(source.data?.text ?? ""), [source.data]);
  const lines = useMemo(() => shownText.text.split(/\r\n|\r|\n/), [shownText]);
  if (!place) return <p className="p-3 text-faint">Nothing of this stands in the source text.</p>;
  const before = (source.data?.first ?? 1) - 1;
  const at = shownText.at(place.line - before, place.column);
  const first = Math.max(1, at.line - AROUND);
  const shown = source.data ? lines.slice(first - 1, at.line + AROUND) : [];
  return (
    <section className="overflow-auto py-2 bg-sheet" aria-label="source lines">
      <p className="px-3 pb-1">
        <SourceLink place={place} />
        {shownText.isLaidOut && <span className="text-faint text-sm"> laid out to be read</span>}
      </p>
      <pre className="mono text-[12px] leading-[1.5]">
        {shown.map((line, index) => {
          const number = first + index;
          const text =
            line.length > LONG ? `… ${line.slice(Math.max(0, at.column - 1), at.column - 1 + LONG)} …` : line;
          return (
            <span
              key={number}
              className={`block px-3 whitespace-pre-wrap break-words ${number === at.line ? "bg-mark" : ""}`}
            >
              <span className={`inline-block w-[6ch] select-none ${number === at.line ? "" : "text-faint"}`}>
                {number + before}
              </span>
              {text}
            </span>
          );
        })}
      </pre>
    </section>
  );
}
