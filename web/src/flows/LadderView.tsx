import { useLayoutEffect, useMemo, useRef, useState } from "react";
import type { Cause, Check, Stop, Strand, Walk } from "../api/client";
import { type Direction, KindMark, tone } from "../ui/marks";
import { CauseNote } from "./CauseNote";
import { EDGE_SPACE, LaneDrawing, STEP } from "./LaneDrawing";
import { type Ladder, ladder, type Row } from "./ladder";

const ANCHOR = 17;

const CHECK_WORDS: Record<Check["kind"], string> = {
  acl_in: "acl in",
  filter: "filter",
  translation: "translated",
  delivery: "here",
  steering: "steered",
  route: "route",
  back: "back",
  acl_out: "acl out",
  next_hop: "hop",
};

/** The order a packet meets them in; whether it could send back is a remark, so it comes last. */
export function checksOf(stop: Stop): Check[] {
  const own = stop.checks.filter((check) => check.kind !== "back");
  const out = stop.branches.flatMap((branch) => branch.checks);
  const seen = new Set<string>();
  const distinct = [...own, ...out].filter((check) => {
    const key = `${check.kind}${check.message}`;
    return seen.has(key) ? false : seen.add(key);
  });
  return [...distinct, ...stop.checks.filter((check) => check.kind === "back")];
}

export function LadderView({
  walk,
  chosen,
  choose,
}: {
  walk: Walk;
  chosen: string | null;
  choose: (device: string) => void;
}) {
  const drawn: Ladder = useMemo(() => ladder(walk.forward, walk.return), [walk]);
  const list = useRef<HTMLOListElement>(null);
  const [anchors, setAnchors] = useState<number[]>([]);
  const [height, setHeight] = useState(0);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the rows come and go with what is drawn
  useLayoutEffect(() => {
    const element = list.current;
    if (!element) return;
    const measure = () => {
      const rows = [...element.children].filter((child) => child.hasAttribute("data-row")) as HTMLElement[];
      setAnchors(rows.map((row) => row.offsetTop + ANCHOR));
      setHeight(element.offsetHeight);
    };
    measure();
    const observer = new ResizeObserver(measure);
    observer.observe(element);
    for (const child of element.children) observer.observe(child);
    return () => observer.disconnect();
  }, [drawn]);
  const space = {
    forward: EDGE_SPACE * 2 + drawn.lanes.forward.columns * STEP,
    return: EDGE_SPACE * 2 + drawn.lanes.return.columns * STEP,
  };
  return (
    <div className="relative">
      <LaneDrawing
        lane={drawn.lanes.forward}
        strand={walk.forward}
        anchors={anchors}
        height={height}
        width={space.forward}
      />
      {walk.return && (
        <LaneDrawing
          lane={drawn.lanes.return}
          strand={walk.return}
          anchors={anchors}
          height={height}
          width={space.return}
        />
      )}
      <ol ref={list} className="relative" style={{ paddingLeft: space.forward, paddingRight: space.return }}>
        {drawn.rows.map((row) => (
          <LadderRow
            key={row.device}
            row={row}
            walk={walk}
            chosen={row.device === chosen}
            choose={() => choose(row.device)}
          />
        ))}
      </ol>
    </div>
  );
}

function LadderRow({
  row,
  walk,
  chosen,
  choose,
}: {
  row: Row;
  walk: Walk;
  chosen: boolean;
  choose: () => void;
}) {
  const forward = row.stops.forward.map((number) => walk.forward.stops[number] as Stop);
  const back = row.stops.return.map((number) => walk.return?.stops[number] as Stop);
  return (
    <li data-row={row.device} className={`border-b border-hair/70 ${chosen ? "bg-wash" : ""}`}>
      <button
        type="button"
        onClick={choose}
        aria-pressed={chosen}
        data-testid={`stop-${row.device}`}
        className="grid grid-cols-[minmax(0,1fr)_minmax(7rem,auto)_minmax(0,1fr)] gap-3 w-full items-center h-[34px] px-1 hover:bg-wash"
      >
        <span className="flex gap-1.5 justify-end items-center overflow-hidden">
          <Checks stops={forward} direction="forward" />
        </span>
        <span className="flex items-center gap-1.5 justify-center">
          <KindMark kind={row.kind} />
          <span className="mono text-[13.5px]">{row.device}</span>
        </span>
        <span className="flex gap-1.5 items-center overflow-hidden">
          <Checks stops={back} direction="return" />
        </span>
      </button>
      <div className="flex gap-4">
        <RowCauses strand={walk.forward} stops={row.stops.forward} direction="forward" />
        {walk.return && <RowCauses strand={walk.return} stops={row.stops.return} direction="return" />}
      </div>
    </li>
  );
}

/** The checks of a row as words in order; a failed one is filled, a remarkable one is dotted under. */
function Checks({ stops, direction }: { stops: Stop[]; direction: Direction }) {
  // One word for all filters that a packet passes; each is in the evidence.
  const seen = new Set<string>();
  const checks = stops.flatMap(checksOf).filter((check) => {
    if (check.kind !== "filter" || check.state !== "pass") return true;
    return seen.has(check.kind) ? false : seen.add(check.kind);
  });
  const width = Math.max(0, ...stops.map((stop) => stop.branches.length));
  const inbound = [...new Set(stops.map((stop) => stop.ingress).filter(Boolean))].join(" ");
  return (
    <>
      {direction === "forward" && inbound && (
        <span className="mono text-[11px] text-faint mr-auto pl-1 shrink-0">{inbound}</span>
      )}
      {width > 1 && (
        <span
          className={`text-[12px] font-semibold ${tone(direction)}`}
          title={`${width} equal-cost ways on`}
        >
          ×{width}
        </span>
      )}
      {checks.map((check) => (
        <span
          key={`${check.kind}${check.message}`}
          title={check.message}
          className={`text-[11.5px] leading-4 whitespace-nowrap ${
            check.state === "fail"
              ? "bg-stop text-sheet px-1"
              : check.state === "note"
                ? `${tone(direction)} underline decoration-dotted underline-offset-2`
                : "text-faint"
          }`}
        >
          {CHECK_WORDS[check.kind]}
          <span className="sr-only"> {check.state}</span>
        </span>
      ))}
      {direction === "return" && inbound && (
        <span className="mono text-[11px] text-faint ml-auto pr-1 shrink-0">{inbound}</span>
      )}
    </>
  );
}

function RowCauses({ strand, stops, direction }: { strand: Strand; stops: number[]; direction: Direction }) {
  const causes = strand.causes.filter((cause: Cause) => stops.includes(cause.stop));
  if (causes.length === 0) return null;
  return (
    <div className={`flex-1 min-w-0 pb-2 px-2 ${direction === "return" ? "pl-[12%]" : "pr-[12%]"}`}>
      {causes.map((cause) => (
        <CauseNote key={`${cause.branch}${cause.message}`} cause={cause} direction={direction} />
      ))}
    </div>
  );
}
