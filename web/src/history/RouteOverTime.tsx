import { useState } from "react";
import { useSearchParams } from "react-router";
import type { InstanceKey } from "../api/answers";
import { type Part, useRouteOverTime } from "../api/history";
import { useRevisions } from "../api/queries";
import type { components } from "../api/schema.gen";
import { actionText, kindText } from "../contest/words";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { FirstOf } from "../ui/FirstOf";
import { Failed, Waiting } from "../ui/states";
import { useTimes } from "../ui/times";
import { useKnownTime } from "./FlowStrip";
import { lengthText } from "./lengths";
import { Hours } from "./Outages";
import { partsOf, windowOf } from "./strip";

type Told = components["schemas"]["RouteOverTime"];
type RouteSegment = components["schemas"]["RouteSegment"];
type TableRow = components["schemas"]["TableRow"];

/** The route of a table for a prefix over the time that the revision in view stands for, once it is asked for. */
export function RouteOverTime({ instance, prefix }: { instance: InstanceKey; prefix: string }) {
  const { network, revision } = useCurrentNetwork();
  const known = useKnownTime(network.id);
  const revisions = useRevisions(network.id).data ?? [];
  const [search] = useSearchParams();
  const [opened, setOpened] = useState(false);
  if (!known) return null;
  const parts = partsOf(windowOf(search.get("window"), known), revisions);
  const part = parts.find(({ number }) => number === revision.number);
  if (!part) return null;
  return (
    <details
      className="mt-3 border-t border-hair pt-1"
      onToggle={(event) => setOpened(event.currentTarget.open)}
      data-testid="route-over-time"
    >
      <summary className="cursor-pointer min-h-6">over time</summary>
      {opened && <Over instance={instance} prefix={prefix} part={part} />}
    </details>
  );
}

function Over({ instance, prefix, part }: { instance: InstanceKey; prefix: string; part: Part }) {
  const { network } = useCurrentNetwork();
  const found = useRouteOverTime(network.id, instance, prefix, part);
  const { done, of } = found.soFar;
  if (found.isError) return <Failed error={found.error} what="This cannot be told." />;
  if (!found.data) return <Waiting what={of ? `${done} of ${of} states` : "the time before"} />;
  return <Shown told={found.data} />;
}

function Shown({ told }: { told: Told }) {
  const shownTime = useTimes();
  const { segments, otherwise, words } = told;
  const events = new Map(told.events.map((one) => [one.number, one.words]));
  const usual = usualOf(told);
  return (
    <div>
      <p className="text-faint text-sm">
        {shownTime(told.start)} – {shownTime(told.end)}
      </p>
      <Band told={told} />
      {words.map((line) => (
        <p key={line} className={line.startsWith("That is getting worse") ? "text-stop" : ""}>
          {line}
        </p>
      ))}
      {usual && (
        <p>
          Usually <RouteWords route={usual} />.
        </p>
      )}
      {otherwise.outages > 1 && (
        <p className="flex items-end gap-2 text-sm text-faint">
          by hour of the day, UTC <Hours counts={otherwise.by_hour} />
        </p>
      )}
      <FirstOf
        first={8}
        all={segments.slice(1).reverse()}
        line={(one) => (
          <Change
            key={one.start}
            segment={one}
            isUsual={usual !== null && isSame(one.route, usual)}
            because={one.because.flatMap((number) => events.get(number) ?? [])}
          />
        )}
      />
    </div>
  );
}

function usualOf({ segments, usual }: Told): TableRow | null {
  return usual === null ? null : (segments[usual]?.route ?? null);
}

function isSame(one: TableRow | null, other: TableRow | null): boolean {
  return JSON.stringify(one) === JSON.stringify(other);
}

const BAND = { usual: "fill-forward opacity-80", other: "fill-return opacity-70", none: "fill-stop" };

/** The usual route in the colour of the way there, another one in that of the way back, a shorter prefix underlined, none
 * in red, nothing where nobody knows. */
function Band({ told }: { told: Told }) {
  const [start, end] = [Date.parse(told.start), Date.parse(told.end)];
  const at = (time: string) => (100 * (Date.parse(time) - start)) / (end - start);
  const width = (one: RouteSegment) => at(one.end) - at(one.start);
  const usual = usualOf(told);
  const kind = ({ route }: RouteSegment) =>
    route === null ? "none" : isSame(route, usual) ? "usual" : "other";
  // The short ones last: they are seen over their neighbours.
  const ordered = told.segments.filter((one) => !one.unknown).sort((one, other) => width(other) - width(one));
  return (
    <svg
      viewBox="0 0 100 14"
      preserveAspectRatio="none"
      className="w-full h-3.5 my-1"
      role="img"
      aria-label={told.words.join(" ")}
    >
      <path d="M0 7H100" className="stroke-hair" strokeWidth="0.5" />
      {ordered.map((one) => (
        <g key={one.start} transform={`translate(${at(one.start)} 0)`} data-testid="route-segment">
          <rect width={Math.max(0.25, width(one))} height="14" className={BAND[kind(one)]} />
          {one.fell_back && (
            <rect y="11.5" width={Math.max(0.25, width(one))} height="2.5" className="fill-ink" />
          )}
        </g>
      ))}
    </svg>
  );
}

/** When the route became another one, to which it leads; how long it stayed, and by which events. */
function Change({
  segment,
  isUsual,
  because,
}: {
  segment: RouteSegment;
  isUsual: boolean;
  because: string[];
}) {
  const shownTime = useTimes();
  const [search, setSearch] = useSearchParams();
  const seconds = (Date.parse(segment.end) - Date.parse(segment.start)) / 1000;
  function look() {
    const next = new URLSearchParams({
      ...Object.fromEntries(search),
      ...stateOf(search),
      time: segment.start,
    });
    next.delete("revision");
    setSearch(next);
  }
  return (
    <li className="border-t border-hair/70 py-0.5">
      <button type="button" className="underline underline-offset-2 tabular-nums min-h-6" onClick={look}>
        {shownTime(segment.start)}
      </button>{" "}
      {segment.unknown && <span className="text-faint">not known: {segment.unknown}</span>}
      {!segment.unknown && isUsual && "the usual one again"}
      {!segment.unknown && !isUsual && (
        <>
          {segment.route ? <RouteWords route={segment.route} /> : <span className="text-stop">none</span>}
          <span className="text-faint">, {lengthText(seconds)}</span>
        </>
      )}
      {because.length > 0 && <span className="block text-[13px] text-faint">{because.join(", ")}</span>}
    </li>
  );
}

function RouteWords({ route }: { route: TableRow }) {
  return (
    <>
      <span className="mono">{route.prefix}</span> {kindText(route)},{" "}
      <span className="mono">{actionText(route)}</span>
    </>
  );
}
