import { Link, useSearchParams } from "react-router";
import type { Availability, Outage, PrefixChanges } from "../api/history";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { useTimes } from "../ui/times";
import { counted } from "../ui/words";
import { lengthText, percentText } from "./lengths";
import { millisecond } from "./moments";

const ROW = "border-t border-hair py-1 align-baseline";

/** Leads to the network as it was at a moment, where the flow that was asked last is asked of it. */
export function AtMoment({ time, children }: { time: string; children: string }) {
  const { network } = useCurrentNetwork();
  const [search] = useSearchParams();
  const moment = new Date(millisecond(time)).toISOString();
  const there = new URLSearchParams({ ...stateOf(search), time: moment });
  there.delete("revision");
  return (
    <Link className="underline underline-offset-2" to={`/networks/${network.id}/flow?${there}`}>
      {children}
    </Link>
  );
}

/** What is down at the end of the window. */
export function Down({ outages, end }: { outages: Outage[]; end: string }) {
  const shownTime = useTimes();
  return (
    <section aria-labelledby="down-title" className="mb-6" data-testid="down">
      <h2 id="down-title" className="text-lg mb-1">
        Down at {shownTime(end)}
      </h2>
      {outages.length === 0 && <p className="text-faint">Nothing: all that ever went down is up.</p>}
      <ul>
        {outages.map((one) => (
          <li key={`${one.what} ${one.at}`} className={`${ROW} flex gap-4`}>
            <span className="text-stop font-semibold">{one.words}</span>
            <span>
              {one.start ? `since ${shownTime(one.start)}` : "since before all events"},{" "}
              {lengthText(one.seconds)}
            </span>
            {one.start && <AtMoment time={one.start}>flows then</AtMoment>}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** What goes down most, with whether it gets worse and in which hours of the day. */
export function Flapping({ things }: { things: Availability[] }) {
  if (!things.length) return null;
  return (
    <section aria-labelledby="flapping-title" className="mb-6" data-testid="flapping">
      <h2 id="flapping-title" className="text-lg mb-1">
        Goes down most
      </h2>
      <ThingsTable things={things} />
    </section>
  );
}

/** How things did over a window: how often and how long they were down, in which hours of the day, and the trend. */
export function ThingsTable({ things }: { things: Availability[] }) {
  return (
    <table className="w-full text-left">
      <thead className="text-faint text-sm">
        <tr>
          <th className="font-normal">what</th>
          <th className="font-normal text-right px-3">times</th>
          <th className="font-normal text-right px-3">in all</th>
          <th className="font-normal text-right px-3">longest</th>
          <th className="font-normal text-right px-3">up</th>
          <th className="font-normal px-3">by hour of the day, UTC</th>
          <th className="font-normal">trend</th>
        </tr>
      </thead>
      <tbody>
        {things.map((one) => (
          <tr key={`${one.what} ${one.at}`}>
            <td className={ROW}>
              {one.words}
              {one.is_down && <span className="text-stop"> (down)</span>}
            </td>
            <td className={`${ROW} text-right px-3`}>{one.outages}</td>
            <td className={`${ROW} text-right px-3 whitespace-nowrap`}>{lengthText(one.down_seconds)}</td>
            <td className={`${ROW} text-right px-3 whitespace-nowrap`}>{lengthText(one.longest_seconds)}</td>
            <td className={`${ROW} text-right px-3 whitespace-nowrap`}>{percentText(one.up)}</td>
            <td className={`${ROW} px-3`}>
              <Hours counts={one.by_hour} />
            </td>
            <td
              className={`${ROW} text-sm ${one.trend.startsWith("getting worse") ? "text-stop" : "text-faint"}`}
            >
              {one.trend}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** How many outages began in each hour of the day. */
export function Hours({ counts }: { counts: number[] }) {
  const most = Math.max(1, ...counts);
  const told = counts.flatMap((count, hour) => (count ? [`${hour}:00 ${count}`] : [])).join(", ");
  return (
    <svg width="122" height="18" role="img" aria-label={told || "none"}>
      <title>{told}</title>
      <path d="M0 16.5H122" className="stroke-hair" />
      {counts.map((count, hour) => (
        <rect
          // biome-ignore lint/suspicious/noArrayIndexKey: the hour is what it is
          key={hour}
          x={hour * 5 + 1}
          y={16 - (15 * count) / most}
          width="4"
          height={(15 * count) / most}
          className="fill-stop"
        />
      ))}
      {[6, 12, 18].map((hour) => (
        <path key={hour} d={`M${hour * 5 + 0.5} 14V18`} className="stroke-faint" />
      ))}
    </svg>
  );
}

/** The prefixes that neighbours announced and withdrew most often. */
export function Busiest({ changes, count }: { changes: PrefixChanges[]; count: number }) {
  const shownTime = useTimes();
  if (!count) return null;
  return (
    <section aria-labelledby="busiest-title" className="mb-6" data-testid="busiest">
      <h2 id="busiest-title" className="text-lg mb-1">
        Announced and withdrawn most
      </h2>
      <p className="text-faint text-sm">{count.toLocaleString("en")} announcements and withdrawals in all</p>
      <ul>
        {changes.map((one) => (
          <li key={`${one.prefix} ${one.speaker}`} className={`${ROW} flex flex-wrap gap-x-4`}>
            <span className="mono">{one.prefix}</span>
            <span>
              {one.announced.toLocaleString("en")} announced, {one.withdrawn.toLocaleString("en")} withdrawn
              {one.is_gone && <span className="text-stop"> · gone</span>}
            </span>
            <span className="text-faint">
              by {one.speaker}, last {shownTime(one.last)}
            </span>
            <AtMoment time={one.last}>flows then</AtMoment>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The longest outages of the window. */
export function Longest({ outages, start }: { outages: Outage[]; start: string }) {
  const shownTime = useTimes();
  if (!outages.length) return null;
  return (
    <section aria-labelledby="longest-title" className="mb-6" data-testid="longest">
      <h2 id="longest-title" className="text-lg mb-1">
        The longest outages
      </h2>
      <ul>
        {outages.slice(0, 8).map((one) => (
          <li key={`${one.at} ${one.start}`} className={`${ROW} flex gap-4`}>
            <span className="w-20 text-right">{lengthText(one.seconds)}</span>
            <span>{one.words}</span>
            <span className="text-faint">
              {one.start ? shownTime(one.start) : `before ${shownTime(start)}`} –{" "}
              {one.end ? shownTime(one.end) : "still down"}
            </span>
            {one.start && <AtMoment time={one.start}>flows then</AtMoment>}
          </li>
        ))}
      </ul>
      {outages.length > 8 && (
        <p className="text-faint text-sm">{counted(outages.length - 8, "shorter outage")}</p>
      )}
    </section>
  );
}
