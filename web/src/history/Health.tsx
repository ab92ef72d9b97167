import { useState } from "react";
import { type Measured, type OnTheWay, type PathHealth, useGauge } from "../api/history";
import { useCurrentNetwork } from "../frame/context";
import { counted } from "../ui/words";
import { GaugeChart } from "./GaugeChart";
import {
  columnsOf,
  firstGauge,
  type GaugeKey,
  isSame,
  isShown,
  shareText,
  usualText,
  valueText,
  worstOfEach,
} from "./gauges";
import { percentText } from "./lengths";
import type { Span } from "./strip";

const CELL = "border-t border-hair py-0.5 align-baseline";

/** How all that a flow went over did in the window: what was unusual first, then each device and link in the order of
 * the way, and any measure of it over time beside what is usual. */
export default function Health({
  health,
  span,
  moment,
}: {
  health: PathHealth;
  span: Span;
  moment: number | undefined;
}) {
  const { network, revision } = useCurrentNetwork();
  const [chosen, choose] = useState<GaugeKey>();
  const shown = chosen ?? firstGauge(health);
  const gauge = useGauge({ networkId: network.id, number: revision.number }, shown, span);
  if (!health.on_the_way.length)
    return <p className="mt-1 border-l-2 border-hair pl-3 text-faint">It went nowhere in this time.</p>;
  return (
    <div
      className="mt-1 h-[36vh] min-h-40 overflow-auto border-l-2 border-hair pl-3 grid gap-x-8 gap-y-2 lg:grid-cols-[minmax(0,1fr)_22rem] text-[14px]"
      data-testid="health"
    >
      <div>
        <Unusual health={health} choose={choose} />
        <p className="flex flex-wrap gap-x-6">
          <Delays health={health} />
        </p>
        <WayTable rows={health.on_the_way} shown={shown} choose={choose} />
      </div>
      {health.is_measured ? (
        <div className="lg:sticky lg:top-0 self-start">
          <p className="text-sm min-h-5">{gauge.data?.words ?? ""}</p>
          {gauge.data && <GaugeChart gauge={gauge.data} moment={moment} />}
          {gauge.error && (
            <p role="alert" className="text-stop text-sm">
              {gauge.error.message}
            </p>
          )}
          <p className="text-sm text-faint">
            line: median · band: lowest to highest · dashed: usual at these hours
          </p>
        </div>
      ) : (
        <p className="text-faint">
          Nothing was measured on its ways: samples of delay, loss and load are sent in <em>History</em>, as
          CSV or OpenMetrics text.
        </p>
      )}
    </div>
  );
}

function Unusual({ health, choose }: { health: PathHealth; choose: (key: GaugeKey) => void }) {
  if (!health.unusual.length) {
    const isKnown = health.on_the_way.some((row) => row.measured.some((one) => one.usual));
    return isKnown ? <p className="text-good">Nothing that was measured on its ways was unusual.</p> : null;
  }
  return (
    <ul className="mb-1">
      {worstOfEach(health.unusual).map(({ one, times }) => (
        <li key={`${one.what} ${one.at} ${one.measure}`}>
          <button
            type="button"
            className="text-left text-stop hover:underline min-h-6"
            onClick={() => choose(one)}
          >
            {one.words}
            {times > 1 && `; ${counted(times - 1, "time")} more`}
          </button>
        </li>
      ))}
    </ul>
  );
}

function Delays({ health }: { health: PathHealth }) {
  return health.delays.map((one) => (
    <span key={one.direction}>
      <span className={one.direction === "there" ? "text-forward" : "text-return"}>{one.direction}</span>:
      delay {valueText("delay", one.median)}
      {one.usual !== null && <span className="text-faint">, usually {valueText("delay", one.usual)}</span>}
      {one.known < one.links && (
        <span className="text-faint">
          , of {one.known} of {one.links} links
        </span>
      )}
    </span>
  ));
}

function WayTable({
  rows,
  shown,
  choose,
}: {
  rows: OnTheWay[];
  shown: GaugeKey | undefined;
  choose: (key: GaugeKey) => void;
}) {
  const columns = columnsOf(rows);
  return (
    <table className="w-full text-left">
      <thead className="text-faint text-sm">
        <tr>
          <th className="font-normal">on the way</th>
          <th className="font-normal px-1.5">up</th>
          {columns.map(({ title }) => (
            <th key={title} className="font-normal px-1.5">
              {title}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={`${row.what} ${row.at}`} className={row.there || row.back ? "" : "text-faint"}>
            <td className={`${CELL} whitespace-nowrap ${row.what === "device" ? "" : "pl-4"}`}>
              {row.what === "device" ? row.at : nameText(row)} <Directions row={row} />
            </td>
            <td className={`${CELL} px-1.5 whitespace-nowrap ${row.outages ? "text-stop" : "text-faint"}`}>
              {percentText(row.up)}
              {row.outages > 0 && ` · ${row.outages}×`}
            </td>
            {columns.map(({ title, measures }) => (
              <td key={title} className={`${CELL} px-1.5`}>
                {row.measured
                  .filter((one) => (measures as readonly string[]).includes(one.measure) && isShown(one))
                  .map((one) => (
                    <Value
                      key={`${one.what} ${one.at} ${one.measure}`}
                      one={one}
                      isChosen={isSame(shown, one)}
                      choose={choose}
                    />
                  ))}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** A link without a name by one of its ends. */
function nameText({ what, at, words }: OnTheWay): string {
  return what === "link" && words.includes(" – ") ? `link of ${at}` : words.replace(/^link /, "");
}

function Directions({ row }: { row: OnTheWay }) {
  return (
    <>
      {row.there && <span className="text-forward">→</span>}
      {row.back && <span className="text-return">←</span>}
    </>
  );
}

/** A value that leads to its course over time. */
function Value({
  one,
  isChosen,
  choose,
}: {
  one: Measured;
  isChosen: boolean;
  choose: (key: GaugeKey) => void;
}) {
  const share = shareText(one);
  const usual = one.usual ? usualText(one.measure, one.usual) : "what is usual is not known yet";
  return (
    <button
      type="button"
      title={`median; highest ${valueText(one.measure, one.highest)}; ${usual}${share ? `; ${share}` : ""}`}
      aria-pressed={isChosen}
      className={`block whitespace-nowrap min-h-6 hover:underline ${isChosen ? "underline underline-offset-4" : ""} ${one.is_unusual ? "text-stop font-semibold" : ""}`}
      onClick={() => choose(one)}
    >
      {valueText(one.measure, one.median)}
      {one.is_unusual && ` ↑ ${valueText(one.measure, one.highest)}`}
      {one.toward && one.measure !== "delay" && one.measure !== "loss" && (
        <span className="text-faint font-normal"> → {one.toward}</span>
      )}
    </button>
  );
}
