import { useId } from "react";
import { type Direction, VerdictMark } from "../ui/marks";
import { letter, type Segment, type Strip } from "./strip";

export const LABELS = 76;
const BAND = 13;
const GAP = 2;
export const rowHeight = 2 * BAND + GAP + 3;
export const EVENTS_HEIGHT = 8;
const NARROW = 1.5;
const FOR_A_LETTER = 14;

/** Both directions of a flow: the usual way plain, others hatched each in its own manner, what fails in red with the
 * mark of its verdict, nothing where nobody knows. A notch below says that it fell back. */
export function Bands({
  strip,
  at,
  width,
  left,
}: {
  strip: Strip;
  at: (time: number) => number;
  width: number;
  left: number;
}) {
  const id = useId();
  const wide = (one: Segment) => at(one.to) - Math.max(0, at(one.from)) > FOR_A_LETTER && at(one.to) > 0;
  const firstOf = (direction: Direction) =>
    strip.segments.find(
      (one) =>
        wide(one) &&
        (direction === "forward" ? one.way : one.wayBack) === strip.ways[direction][0]?.key &&
        !fails(one, direction),
    )?.from;
  const first = { forward: firstOf("forward"), return: firstOf("return") };
  const directions = [
    ["forward", 0],
    ["return", BAND + GAP],
  ] as const;
  return (
    <g>
      <defs>
        {(["forward", "return"] as const).flatMap((direction) =>
          [1, 2, 3, 4].map((kind) => (
            <pattern
              key={`${direction}${kind}`}
              id={`${id}${direction}${kind}`}
              width={[0, 5, 5, 3, 8][kind]}
              height={[0, 5, 5, 3, 8][kind]}
              patternUnits="userSpaceOnUse"
              patternTransform={`rotate(${[0, 45, -45, 90, 20][kind]})`}
            >
              <rect width="8" height="8" className={TINTS[direction]} opacity="0.28" />
              <path d="M0 0H8" strokeWidth="3" className={STROKES[direction]} opacity="0.75" />
            </pattern>
          )),
        )}
        <clipPath id={`${id}clip`}>
          <rect width={width} height={rowHeight} />
        </clipPath>
      </defs>
      {directions.map(([direction, top]) => (
        <g key={direction} transform={`translate(${left} ${top})`} clipPath={`url(#${id}clip)`}>
          <path d={`M0 ${BAND / 2}H${width}`} className="stroke-hair" strokeDasharray="2 3" />
          {inOrder(strip.segments, direction).map((one) => (
            <Piece
              isNamed={one.from === first[direction]}
              key={one.from}
              segment={one}
              direction={direction}
              ways={strip.ways[direction].map((way) => way.key)}
              from={Math.max(0, at(one.from))}
              to={Math.min(width, at(one.to))}
              pattern={`${id}${direction}`}
            />
          ))}
        </g>
      ))}
      {directions.map(([direction, top]) => (
        <text key={direction} x="0" y={top + 10.5} className={`text-[12px] ${TINTS[direction]}`}>
          {direction}
        </text>
      ))}
    </g>
  );
}

const TINTS: Record<Direction, string> = { forward: "fill-forward", return: "fill-return" };
const STROKES: Record<Direction, string> = { forward: "stroke-forward", return: "stroke-return" };

/** The short ones last, and what fails behind all: they are seen over their neighbours. */
function inOrder(segments: Segment[], direction: Direction): Segment[] {
  const weight = (one: Segment) => (fails(one, direction) ? 1 : 0);
  return [...segments].sort(
    (one, other) => weight(one) - weight(other) || other.to - other.from - (one.to - one.from),
  );
}

function fails(segment: Segment, direction: Direction): boolean {
  const verdict = direction === "forward" ? segment.forward : segment.reply;
  return verdict !== null && verdict !== "arrives" && verdict !== "leaves";
}

function Piece({
  segment,
  direction,
  ways,
  from,
  to,
  pattern,
  isNamed,
}: {
  segment: Segment;
  direction: Direction;
  ways: string[];
  from: number;
  to: number;
  pattern: string;
  /** Of the usual way, which is named once. */
  isNamed: boolean;
}) {
  const verdict = direction === "forward" ? segment.forward : segment.reply;
  if (verdict === null || to < 0) return null;
  const wide = Math.max(NARROW, to - from);
  const way = ways.indexOf(direction === "forward" ? segment.way : segment.wayBack);
  const failing = fails(segment, direction);
  const usual = failing ? "fill-stop" : way === 0 ? `${TINTS[direction]} opacity-80` : "";
  return (
    <g transform={`translate(${from} 0)`} data-testid="segment">
      <rect
        width={wide}
        height={BAND}
        className={usual}
        fill={usual ? undefined : `url(#${pattern}${((way - 1) % 4) + 1})`}
      />
      {wide > FOR_A_LETTER && (way > 0 || (way === 0 && isNamed)) && !failing && (
        <g>
          {way > 0 && <rect x="2" y="1" width="11" height={BAND - 2} className="fill-paper" />}
          <text
            x="4"
            y="10.5"
            className={`text-[11px] font-semibold ${way > 0 ? TINTS[direction] : "fill-paper"}`}
          >
            {letter(way)}
          </text>
        </g>
      )}
      {wide > FOR_A_LETTER && failing && (
        <g transform="translate(3 1)" className="text-paper">
          <VerdictMark verdict={verdict} size={11} />
        </g>
      )}
      {direction === "forward" && segment.fellBack.length > 0 && (
        <path
          d={`M0 ${BAND + 0.75}H${wide}`}
          className="stroke-ink"
          strokeWidth="1.5"
          data-testid="fell-back"
        />
      )}
    </g>
  );
}
