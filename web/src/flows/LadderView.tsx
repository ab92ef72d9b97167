import { useLayoutEffect, useMemo, useRef, useState } from "react";
import type { Cause, Check, Stop, Strand, Walk } from "../api/client";
import { type Direction, KindMark, tone } from "../ui/marks";
import { CauseNote } from "./CauseNote";
import { EDGE_SPACE, LaneDrawing, STEP } from "./LaneDrawing";
import { folded, type Ladder, ladder, type Row, remarks } from "./ladder";

const ANCHOR = 17;

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
  before,
  chosen,
  choose,
}: {
  walk: Walk;
  /** The same without the trial that it is asked with. */
  before?: Walk | undefined;
  chosen: string | null;
  choose: (device: string) => void;
}) {
  const drawn: Ladder = useMemo(() => ladder(walk.forward, walk.return, before), [walk, before]);
  const list = useRef<HTMLOListElement>(null);
  const [anchors, setAnchors] = useState<number[]>([]);
  const [height, setHeight] = useState(0);
  const [unfolded, setUnfolded] = useState<ReadonlySet<string>>(new Set());
  const shown = useMemo(
    () => folded(drawn.rows, walk, chosen ? new Set([...unfolded, chosen]) : unfolded),
    [drawn, walk, unfolded, chosen],
  );
  // biome-ignore lint/correctness/useExhaustiveDependencies: the rows come and go with what is drawn
  useLayoutEffect(() => {
    const element = list.current;
    if (!element) return;
    const measure = () => {
      const children = [...element.children] as HTMLElement[];
      setAnchors(children.flatMap((child) => anchorsOf(child)));
      setHeight(element.offsetHeight);
    };
    measure();
    const observer = new ResizeObserver(measure);
    observer.observe(element);
    for (const child of element.children) observer.observe(child);
    return () => observer.disconnect();
  }, [shown]);
  const columns = (direction: Direction) =>
    drawn.lanes[direction].columns + (drawn.former[direction]?.columns ?? 0);
  const space = {
    forward: EDGE_SPACE * 2 + columns("forward") * STEP,
    return: EDGE_SPACE * 2 + columns("return") * STEP,
  };
  const former = (["forward", "return"] as const).flatMap((direction) => {
    const strand = before?.[direction];
    const lane = drawn.former[direction];
    return strand && lane ? [{ direction, strand, lane }] : [];
  });
  return (
    <div className="relative">
      {former.map(({ direction, strand, lane }) => (
        <LaneDrawing
          key={direction}
          lane={lane}
          strand={strand}
          anchors={anchors}
          height={height}
          width={space[direction]}
          formerFrom={drawn.lanes[direction].columns}
        />
      ))}
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
        {shown.map((rows) => {
          const row = rows[0] as Row;
          return rows.length > 1 ? (
            <FoldedRows
              key={row.device}
              rows={rows}
              unfold={() => setUnfolded(new Set([...unfolded, row.device]))}
            />
          ) : (
            <LadderRow
              key={row.device}
              row={row}
              walk={walk}
              chosen={row.device === chosen}
              choose={() => choose(row.device)}
            />
          );
        })}
      </ol>
    </div>
  );
}

/** Where the points of a row, or of several folded into one, stand. */
function anchorsOf(row: HTMLElement): number[] {
  const count = Number(row.dataset.rows);
  return Array.from({ length: count }, (_, at) =>
    count === 1 ? row.offsetTop + ANCHOR : row.offsetTop + 6 + (at * (row.offsetHeight - 12)) / (count - 1),
  );
}

/** Stops at which nothing happens but that the packet goes on. */
function FoldedRows({ rows, unfold }: { rows: Row[]; unfold: () => void }) {
  const names = rows.map((row) => row.device);
  return (
    <li data-rows={rows.length} className="border-b border-hair/70">
      <button
        type="button"
        onClick={unfold}
        title={names.join(", ")}
        data-testid="folded"
        className="w-full px-1 h-[52px] text-[12.5px] text-faint hover:bg-wash"
      >
        {rows.length} stops that pass it on, <span className="mono">{names[0]}</span> to{" "}
        <span className="mono">{names.at(-1)}</span>
      </button>
    </li>
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
    <li data-rows={1} className={`border-b border-hair/70 ${chosen ? "bg-wash" : ""}`}>
      <button
        type="button"
        onClick={choose}
        aria-pressed={chosen}
        data-testid={`stop-${row.device}`}
        className="grid grid-cols-[minmax(0,1fr)_minmax(7rem,auto)_minmax(0,1fr)] gap-3 w-full items-center h-[34px] px-1 hover:bg-wash"
      >
        <span className="flex gap-1.5 justify-end items-center overflow-hidden">
          <Decided stops={forward} direction="forward" />
        </span>
        <span className="flex items-center gap-1.5 justify-center">
          <KindMark kind={row.kind} />
          <span className="mono text-[13.5px]">{row.device}</span>
        </span>
        <span className="flex gap-1.5 items-center overflow-hidden">
          <Decided stops={back} direction="return" />
        </span>
      </button>
      <div className="flex gap-4">
        <RowCauses
          strand={walk.forward}
          stops={row.stops.forward}
          direction="forward"
          first={firstToTry(walk)}
        />
        {walk.return && (
          <RowCauses
            strand={walk.return}
            stops={row.stops.return}
            direction="return"
            first={firstToTry(walk)}
          />
        )}
      </div>
    </li>
  );
}

/** What decided, in one line; what failed is told apart, what is remarkable is dotted under. */
function Decided({ stops, direction }: { stops: Stop[]; direction: Direction }) {
  const inbound = [...new Set(stops.map((stop) => stop.ingress).filter(Boolean))].join(" ");
  const noteworthy = stops.flatMap(remarks);
  const failed = stops.some((stop) =>
    checksOf(stop).some((check) => check.state === "fail" && check.kind !== "back"),
  );
  const text = [...new Set(stops.map((stop) => stop.decided))].join(" · ");
  const side = direction === "forward" ? "mr-auto pl-1" : "ml-auto pr-1 order-last";
  return (
    <>
      {inbound && <span className={`mono text-[11px] text-faint shrink-0 ${side}`}>{inbound}</span>}
      {noteworthy.map((remark) => (
        <span
          key={remark}
          className={`text-[11.5px] shrink-0 underline decoration-dotted underline-offset-2 ${tone(direction)}`}
        >
          {remark}
        </span>
      ))}
      <span
        title={text}
        className={`text-[12.5px] leading-4 truncate ${failed ? "text-stop font-semibold" : "text-faint"}`}
      >
        {text}
        {failed && <span className="sr-only"> fails</span>}
      </span>
    </>
  );
}

/** The cause whose remedy a key tries: the first that has one to try. */
function firstToTry(walk: Walk): Cause | undefined {
  const causes = [...walk.forward.causes, ...(walk.return?.causes ?? [])];
  return causes.find((cause) => cause.remedy?.changes.length);
}

function RowCauses({
  strand,
  stops,
  direction,
  first,
}: {
  strand: Strand;
  stops: number[];
  direction: Direction;
  first: Cause | undefined;
}) {
  const causes = strand.causes.filter((cause: Cause) => stops.includes(cause.stop));
  if (causes.length === 0) return null;
  return (
    <div className={`flex-1 min-w-0 pb-2 px-2 ${direction === "return" ? "pl-[12%]" : "pr-[12%]"}`}>
      {causes.map((cause) => (
        <CauseNote
          key={`${cause.branch}${cause.message}`}
          cause={cause}
          direction={direction}
          keyName={cause === first ? "r" : undefined}
        />
      ))}
    </div>
  );
}
