import type { Strand } from "../api/client";
import { tone, VERDICT_WORDS, VerdictMark } from "../ui/marks";
import type { Edge, Lane, Node } from "./ladder";

export const STEP = 20;
export const EDGE_SPACE = 14;

/** One strand drawn beside the rows: stops as points, branches as lines, each ending with its mark. */
export function LaneDrawing({
  lane,
  strand,
  anchors,
  height,
  width,
  formerFrom,
}: {
  lane: Lane;
  strand: Strand;
  anchors: number[];
  height: number;
  width: number;
  /** Of a former way, drawn faintly: the column from which on there is room. */
  formerFrom?: number;
}) {
  const isForward = lane.direction === "forward";
  const isFormer = formerFrom !== undefined;
  const x = (node: Node) => {
    const across = EDGE_SPACE + (node.column + (formerFrom ?? 0)) * STEP;
    return isForward ? width - across : across;
  };
  const y = (node: Node) => anchors[node.row] ?? 0;
  if (anchors.length === 0) return null;
  return (
    <svg
      width={width}
      height={height}
      className={`absolute top-0 ${isForward ? "left-0" : "right-0"} ${isFormer ? "text-faint opacity-70" : tone(lane.direction)} pointer-events-none`}
      role="img"
      aria-label={`${isFormer ? "former " : ""}${lane.direction} strand: ${VERDICT_WORDS[strand.verdict]}`}
      strokeDasharray={isFormer ? "1 3" : undefined}
    >
      {lane.edges.map((edge) => {
        const from = lane.nodes.get(edge.from);
        if (!from) return null;
        const key = `${edge.from} ${edge.branch.interface} ${edge.branch.address}`;
        const target = edge.to === null ? undefined : lane.nodes.get(edge.to);
        return target ? (
          <EdgeLine
            key={key}
            edge={edge}
            from={[x(from), y(from)]}
            to={[x(target), y(target)]}
            outer={target.column > from.column}
          />
        ) : (
          <Ending key={key} edge={edge} at={[x(from), y(from)]} outwards={isForward ? -1 : 1} />
        );
      })}
      {[...lane.nodes.values()].map((node) => {
        const verdict = strand.stops[node.stop]?.verdict;
        return (
          <g key={node.stop} transform={`translate(${x(node)} ${y(node)})`}>
            <circle
              r={verdict ? 8.5 : 4}
              fill="var(--paper)"
              stroke="currentColor"
              strokeWidth={verdict ? 1.5 : 2}
            />
            {verdict && (
              <g
                transform="translate(-5.5 -5.5)"
                className={verdict === "arrives" || verdict === "leaves" ? "" : "text-stop"}
              >
                <VerdictMark verdict={verdict} size={11} />
              </g>
            )}
          </g>
        );
      })}
    </svg>
  );
}

type Point = [number, number];

function EdgeLine({ edge, from, to, outer }: { edge: Edge; from: Point; to: Point; outer: boolean }) {
  const down = to[1] >= from[1] ? 1 : -1;
  const bend = 14 * down;
  // A branch leaves for its own column at once and comes back to another's only at the end.
  const path =
    from[0] === to[0]
      ? `M${from[0]} ${from[1]}V${to[1]}`
      : edge.verdict === "loops" || Math.abs(to[1] - from[1]) < 20
        ? `M${from[0]} ${from[1]}C${from[0]} ${from[1] + bend} ${to[0]} ${to[1] - bend} ${to[0]} ${to[1]}`
        : outer
          ? `M${from[0]} ${from[1]}C${from[0]} ${from[1] + bend} ${to[0]} ${from[1] + bend / 2} ${to[0]} ${from[1] + 2 * bend}V${to[1]}`
          : `M${from[0]} ${from[1]}V${to[1] - 2 * bend}C${from[0]} ${to[1] - bend / 2} ${to[0]} ${to[1] - bend} ${to[0]} ${to[1]}`;
  const middle = (from[1] + to[1]) / 2;
  const arrowX = outer ? to[0] : from[0];
  return (
    <>
      <path
        d={path}
        fill="none"
        stroke="currentColor"
        strokeWidth="2"
        strokeDasharray={edge.verdict === "loops" ? "4 3" : undefined}
      />
      <path
        d={`M${arrowX - 3.5} ${middle - 3 * down}L${arrowX} ${middle + 2 * down}L${arrowX + 3.5} ${middle - 3 * down}`}
        fill="none"
        stroke="currentColor"
        strokeWidth="1.5"
      />
    </>
  );
}

function Ending({ edge, at, outwards: side }: { edge: Edge; at: Point; outwards: number }) {
  return (
    <g>
      <path d={`M${at[0]} ${at[1]}h${side * 13}`} stroke="currentColor" strokeWidth="2" />
      <g
        transform={`translate(${at[0] + side * 18 - 6} ${at[1] - 6})`}
        className={edge.verdict === "leaves" ? "" : "text-stop"}
      >
        <rect x="-1" y="-1" width="14" height="14" fill="var(--paper)" />
        {edge.verdict && <VerdictMark verdict={edge.verdict} size={12} />}
      </g>
    </g>
  );
}
