import { lazy, Suspense, useEffect, useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import type { Question } from "../api/answers";
import { type Part, useEventFiles, useStrip } from "../api/history";
import { useRevisions } from "../api/queries";
import { questionOf } from "../flows/sentence";
import { useCurrentNetwork } from "../frame/context";
import { Key } from "../ui/Key";
import { useKeys } from "../ui/useKeys";
import { MomentsCompared } from "./MomentsCompared";
import { millisecond, sinceOf } from "./moments";
import { SegmentLine } from "./SegmentLine";
import { Story } from "./Story";
import { AddRow, OtherRow } from "./StripRows";
import {
  around,
  joined,
  partsOf,
  type Span,
  segmentAt,
  stepped,
  WINDOWS,
  wholeOf,
  windowOf,
  windowText,
} from "./strip";
import { Timeline } from "./Timeline";

/** With its charts; most look at the strip alone. */
const Health = lazy(() => import("./Health"));

const PLAY_EVERY = 700;
const MOST_ROWS = 5;

/** What is known of the past of the network in view: from the first event or revision to the last. */
export function useKnownTime(networkId: string): Span | null {
  const files = useEventFiles(networkId).data;
  const revisions = useRevisions(networkId).data;
  if (!files?.length || !revisions?.length) return null;
  const times = revisions.map(sinceOf);
  const firsts = files.map((file) => Date.parse(file.first));
  const lasts = files.map((file) => Date.parse(file.last) + 1000);
  // A revision that was sent long after all events says nothing of the time between.
  const dated = revisions.filter((one) => one.taken_at).map(sinceOf);
  return {
    from: Math.min(...firsts, ...(dated.length ? dated : times)),
    to: Math.max(...lasts, ...(dated.length ? dated : [])),
  };
}

/** What is told of the window in place of the evidence: the flow in sentences, how all that it went over did, or what
 * moved since the moment that is marked. */
export type Told = "words" | "health" | "moved" | null;
type Telling = { told: Told; tell: (told: Told) => void };

/** The flow over time, under the ladder: a band for each direction, along which the whole page is moved. */
export function FlowStrip({ told, tell }: Telling) {
  const { network } = useCurrentNetwork();
  const [search] = useSearchParams();
  const question = questionOf(search);
  const known = useKnownTime(network.id);
  if (!known || !question.from || !question.to) return null;
  return <ShownStrip known={known} question={question} told={told} tell={tell} />;
}

function ShownStrip({ known, question, told, tell }: { known: Span; question: Question } & Telling) {
  const { network, revision } = useCurrentNetwork();
  const revisions = useRevisions(network.id).data ?? [];
  const [search, setSearch] = useSearchParams();
  const window_ = windowOf(search.get("window"), known);
  const parts = partsOf(window_, revisions);
  const rows = search.getAll("row").slice(0, MOST_ROWS);
  const main = useStrip(network.id, question, parts);
  const strip = useMemo(() => joined(main.parts), [main.parts]);
  const moment = revision.moment === undefined ? undefined : Date.parse(revision.moment);
  const [hovered, setHovered] = useState<number>();
  const [playing, setPlaying] = useState(false);

  function goTo(to: number | undefined) {
    if (to === undefined) return setPlaying(false);
    const next = new URLSearchParams(search);
    next.set("time", new Date(to).toISOString());
    next.delete("revision");
    if (to < window_.from || to > window_.to)
      next.set("window", windowText(around(to, window_.to - window_.from, known)));
    setSearch(next, { replace: true });
  }
  function leave() {
    const next = new URLSearchParams(search);
    next.delete("time");
    setSearch(next, { replace: true });
  }
  function look(at: Span | null) {
    const next = new URLSearchParams(search);
    if (at) next.set("window", windowText(at));
    else next.delete("window");
    setSearch(next, { replace: true });
  }
  function showRows(texts: string[]) {
    const next = new URLSearchParams(search);
    next.delete("row");
    for (const text of texts) next.append("row", text);
    setSearch(next, { replace: true });
  }
  const here = moment ?? window_.to;
  const mark = search.get("mark") ? millisecond(search.get("mark") as string) : undefined;
  function setMark() {
    const next = new URLSearchParams(search);
    if (mark === here) next.delete("mark");
    else next.set("mark", new Date(here).toISOString());
    setSearch(next, { replace: true });
  }
  const between =
    mark === undefined || mark === here
      ? undefined
      : wholeOf({ from: Math.min(mark, here), to: Math.max(mark, here) }, revisions);
  const changes = strip.segments.map((one) => one.from);
  const events = useMemo(
    () =>
      [...new Set(main.parts.flatMap((part) => part?.events.map((one) => millisecond(one.time)) ?? []))].sort(
        (one, other) => one - other,
      ),
    [main.parts],
  );
  const change = (forward: boolean) => goTo(stepped(changes, here, forward));
  const widen = (by: number) => {
    const length = (window_.to - window_.from) * by;
    look(length >= known.to - known.from ? null : around(moment ?? window_.to, length, known));
  };
  useKeys({
    ",": () => goTo(stepped(events, here, false)),
    ".": () => goTo(stepped(events, here, true)),
    "<": () => change(false),
    ">": () => change(true),
    "{": () => goTo(here - 60_000),
    "}": () => goTo(here + 60_000),
    P: () => setPlaying(!playing),
    "(": () => widen(4),
    ")": () => widen(1 / 4),
    T: () => turn("words"),
    I: () => turn("health"),
    M: setMark,
    B: () => turn("moved"),
    ...(moment === undefined ? {} : { Escape: leave }),
  });
  const play = useRef(change);
  play.current = change;
  useEffect(() => {
    if (!playing) return;
    const timer = setInterval(() => play.current(true), PLAY_EVERY);
    return () => clearInterval(timer);
  }, [playing]);

  const turn = (what: Told) => tell(told === what ? null : what);

  const shown = hovered ?? moment;
  const health = main.parts.findLast((part) => part)?.health;
  const unusual = health?.unusual.length ?? 0;
  const segment = shown === undefined ? undefined : segmentAt(strip.segments, shown);
  return (
    <section className="border-t border-hair px-4 pt-1 pb-1.5 shrink-0" aria-label="the flow over time">
      <p className="text-sm text-faint flex flex-wrap items-baseline gap-x-3 [&>*]:whitespace-nowrap [&_button]:min-h-6">
        <span className="text-ink font-semibold">over time</span>
        {WINDOWS.map(({ name, length }) => (
          <button
            key={name}
            type="button"
            className={`hover:text-ink ${Math.abs(window_.to - window_.from - length) < 1 ? "text-ink underline underline-offset-4" : ""}`}
            onClick={() => look(around(moment ?? window_.to, length, known))}
          >
            {name}
          </button>
        ))}
        <button
          type="button"
          className={`hover:text-ink ${search.get("window") ? "" : "text-ink underline underline-offset-4"}`}
          onClick={() => look(null)}
        >
          all
        </button>
        <span>
          event <Key>,</Key> <Key>.</Key>
        </span>
        <span>
          change <Key>&lt;</Key> <Key>&gt;</Key>
        </span>
        <span>
          minute <Key>{"{"}</Key> <Key>{"}"}</Key>
        </span>
        <span>
          wider <Key>(</Key> closer <Key>)</Key>
        </span>
        <button type="button" className="hover:text-ink" onClick={() => setPlaying(!playing)}>
          {playing ? "stop" : "play"} <Key>P</Key>
        </button>
        <button
          type="button"
          className="hover:text-ink"
          aria-expanded={told === "words"}
          onClick={() => turn("words")}
        >
          in words <Key>T</Key>
        </button>
        <button
          type="button"
          className={`hover:text-ink ${unusual ? "text-stop" : ""}`}
          aria-expanded={told === "health"}
          onClick={() => turn("health")}
        >
          health{unusual > 0 && `, ${unusual} unusual`} <Key>I</Key>
        </button>
        <button type="button" className="hover:text-ink" onClick={setMark}>
          {mark === here ? "unmark" : "mark"} <Key>M</Key>
        </button>
        {between && (
          <button
            type="button"
            className="hover:text-ink"
            aria-expanded={told === "moved"}
            onClick={() => turn("moved")}
          >
            what moved since the mark <Key>B</Key>
          </button>
        )}
        {moment !== undefined && (
          <button type="button" className="hover:text-ink" onClick={leave}>
            back to the revision <Key>Esc</Key>
          </button>
        )}
        {main.isPending && (
          <span role="status">
            {main.soFar.of ? `${main.soFar.done} of ${main.soFar.of} states` : "looking back"} …
          </span>
        )}
        {rows.length < MOST_ROWS && <AddRow add={(text) => showRows([...rows, text])} />}
      </p>
      {main.error ? (
        <p role="alert" className="text-stop text-sm">
          {main.error.message}
        </p>
      ) : (
        <Timeline
          strip={strip}
          events={main.parts.flatMap((part) => part?.events ?? [])}
          window={window_}
          moment={moment}
          mark={mark}
          goTo={goTo}
          look={look}
          hover={setHovered}
        >
          {(at, width) =>
            rows.map((text) => (
              <OtherRow
                key={text}
                text={text}
                span={window_}
                at={at}
                width={width}
                remove={() => showRows(rows.filter((one) => one !== text))}
              />
            ))
          }
        </Timeline>
      )}
      <SegmentLine segment={segment} strip={strip} moment={moment} hovered={hovered !== undefined} />
      {told === "health" && health && (
        <Suspense>
          <Health health={health} span={window_} moment={moment} />
        </Suspense>
      )}
      {told === "moved" && <Moved part={between} />}
      {told === "words" && (
        <Story lines={strip.story} things={main.parts.findLast((part) => part)?.things ?? []} />
      )}
    </section>
  );
}

/** What moved between the mark and the moment in view. */
function Moved({ part }: { part: Part | undefined }) {
  return (
    <div className="mt-1 h-[30vh] min-h-40 overflow-auto">
      {part ? (
        <MomentsCompared part={part} told />
      ) : (
        <p className="text-faint text-sm">
          Mark a moment, go to another one: what moved between them is told here.
        </p>
      )}
    </div>
  );
}
