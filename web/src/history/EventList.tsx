import { useState } from "react";
import type { EventShown, Part } from "../api/history";
import { FirstOf } from "../ui/FirstOf";
import { Key } from "../ui/Key";
import { useTimes } from "../ui/times";
import { useKeys } from "../ui/useKeys";
import { useStepper } from "../ui/useStepper";
import { counted } from "../ui/words";
import { MomentsCompared } from "./MomentsCompared";
import { millisecond, type Revision, trueAt } from "./moments";
import { AtMoment } from "./Outages";

/** All events of a window, the newest first; of a chosen one what it moved. */
export function EventList({
  events,
  count,
  revisions,
}: {
  events: EventShown[];
  count: number;
  revisions: Revision[];
}) {
  const [typed, setTyped] = useState("");
  const [chosen, setChosen] = useState<number | null>(null);
  const [opened, setOpened] = useState<number | null>(null);
  const shownTime = useTimes();
  const wanted = typed.toLowerCase();
  const shown = events.filter(
    (one) => !wanted || `${one.words} ${one.note} ${one.remark}`.toLowerCase().includes(wanted),
  );
  useStepper(
    shown,
    (one) => one.number === chosen,
    (one) => {
      setChosen(one.number);
      document.getElementById(`event-${one.number}`)?.scrollIntoView({ block: "nearest" });
    },
  );
  useKeys({ b: () => setOpened(opened === chosen ? null : chosen) });
  return (
    <section aria-labelledby="events-title" data-testid="events">
      <h2 id="events-title" className="text-lg mb-1 flex flex-wrap gap-4 items-baseline">
        Events
        <input
          aria-label="events that contain"
          placeholder="that contain …"
          value={typed}
          onChange={(event) => setTyped(event.target.value)}
          spellCheck={false}
          className="text-base bg-transparent border-b border-faint"
        />
        <span className="text-sm text-faint">
          next <Key>j</Key> previous <Key>u</Key> what it moved <Key>b</Key>
        </span>
      </h2>
      {count > events.length && (
        <p className="text-sm text-faint">
          The last {events.length.toLocaleString("en")} of {counted(count, "event")}: a shorter window shows
          others.
        </p>
      )}
      <FirstOf
        all={shown}
        first={200}
        line={(one) => (
          <li
            key={one.number}
            id={`event-${one.number}`}
            className={`border-t border-hair py-0.5 ${one.number === chosen ? "bg-wash" : ""}`}
          >
            <p className="flex gap-4 items-baseline">
              <button
                type="button"
                className="tabular-nums whitespace-nowrap text-faint hover:text-ink"
                title="what it moved"
                onClick={() => {
                  setChosen(one.number);
                  setOpened(opened === one.number ? null : one.number);
                }}
              >
                {fullTime(one.time, shownTime(one.time))}
              </button>
              <span className={one.goes === "down" ? "text-stop" : ""}>
                <Goes goes={one.goes} /> {one.words}
              </span>
              <span className="text-faint truncate">{one.note}</span>
              {one.remark && <span className="text-stop italic">does not fit: {one.remark}</span>}
              <span className="ml-auto text-sm whitespace-nowrap">
                <AtMoment time={one.time}>flows then</AtMoment>
              </span>
            </p>
            {opened === one.number && <MomentsCompared part={aroundEvent(one, revisions)} />}
          </li>
        )}
      />
      {shown.length === 0 && <p className="text-faint">No event contains this.</p>}
    </section>
  );
}

/** Down and up by shape as well as by colour. */
function Goes({ goes }: { goes: EventShown["goes"] }) {
  const shape = { down: "M2 3H10L6 10Z", up: "M2 9H10L6 2Z", changed: "M6 1.5 10.5 6 6 10.5 1.5 6Z" }[goes];
  return (
    <svg width="12" height="12" className="inline-block" role="img" aria-label={goes}>
      <title>{goes}</title>
      <path d={shape} fill="currentColor" />
    </svg>
  );
}

/** With its seconds, which events have. */
function fullTime(time: string, shown: string): string {
  const seconds = /:(\d\d)(?:\.\d+)?Z$/.exec(time)?.[1];
  return seconds ? shown.replace(/(\d\d:\d\d)/, `$1:${seconds}`) : shown;
}

/** From the instant before an event to the event, of the revision that was true then. */
function aroundEvent({ time }: EventShown, revisions: Revision[]): Part {
  const at = millisecond(time);
  const end = new Date(at).toISOString();
  return { number: trueAt(revisions, end) ?? 0, start: new Date(at - 1).toISOString(), end };
}
