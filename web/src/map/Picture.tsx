import { memo } from "react";
import { kindPath, VerdictMark } from "../ui/marks";
import { radius } from "./clusters";
import type { Drawing, Line, Mark } from "./drawing";
import type { Step, Traces } from "./ways";

/** How near a pointer must come to a cable. */
const HIT = 9;
const BOLD = {
  paintOrder: "stroke",
  stroke: "var(--paper)",
  strokeWidth: 3,
  strokeLinejoin: "round",
} as const;

/** What a map shows at one scale: cables, ways, marks, names. */
export const Picture = memo(function Picture({
  drawing,
  traces,
  kinds,
  chosen,
  picked,
  choose,
  pick,
  open,
}: {
  drawing: Drawing;
  traces: Traces;
  kinds: Map<string, string>;
  chosen: string | null;
  /** The cables that are picked. */
  picked: string[];
  choose: (device: string) => void;
  pick: (cables: string[]) => void;
  /** Open a cluster in place, or close what is open. */
  open: (member: string | null) => void;
}) {
  const { forward, back, former = [], endings, touched } = traces;
  const dimmed = touched.size > 0;
  const places = new Map(drawing.marks.flatMap((mark) => mark.cluster.members.map((name) => [name, mark])));
  return (
    <>
      <Cables
        lines={drawing.lines.filter((line) => !line.above)}
        dimmed={dimmed}
        picked={picked}
        pick={pick}
      />
      {drawing.opened && (
        // biome-ignore lint/a11y/noStaticElementInteractions: Escape does the same
        <rect
          x={drawing.opened.left}
          y={drawing.opened.top}
          width={drawing.opened.right - drawing.opened.left}
          height={drawing.opened.bottom - drawing.opened.top}
          fill="var(--paper)"
          stroke="var(--hair)"
          onClick={() => open(null)}
          data-testid="opened"
        />
      )}
      <Cables
        lines={drawing.lines.filter((line) => line.above)}
        dimmed={dimmed}
        picked={picked}
        pick={pick}
      />
      <Way steps={former} run={drawing.run} tone="var(--faint)" isFormer />
      <Way steps={forward} run={drawing.run} tone="var(--forward)" />
      <Way steps={back} run={drawing.run} tone="var(--return)" />
      {drawing.marks.map((mark) =>
        mark.cluster.members.length > 1 ? (
          <ClusterMark key={mark.cluster.id} mark={mark} dimmed={dimmed} open={open} />
        ) : (
          <DeviceMark
            key={mark.cluster.id}
            mark={mark}
            kind={kinds.get(mark.cluster.id) ?? "router"}
            isChosen={mark.cluster.id === chosen}
            isTouched={touched.has(mark.cluster.id)}
            dimmed={dimmed}
            choose={choose}
          />
        ),
      )}
      {[...endings].map(([device, verdict]) => {
        const at = places.get(device);
        return at ? (
          <g
            key={`end ${device}`}
            transform={`translate(${at.x + 7} ${at.y - 19})`}
            color={
              verdict === "arrives" ? "var(--good)" : verdict === "leaves" ? "var(--ink)" : "var(--stop)"
            }
            className="pointer-events-none"
          >
            <rect x="-2" y="-2" width="16" height="16" rx="2" fill="var(--paper)" stroke="currentColor" />
            <VerdictMark verdict={verdict} size={12} />
          </g>
        ) : null;
      })}
      <g className="pointer-events-none" textAnchor="middle">
        {drawing.labels.map((label) =>
          label.site ? (
            <text
              key={label.id}
              x={label.x}
              y={label.y + 5}
              fontSize="15"
              fontStyle="italic"
              fill="var(--faint)"
              data-label="site"
              {...BOLD}
            >
              {label.text}
            </text>
          ) : (
            <text
              key={label.id}
              x={label.x}
              y={label.y + 4}
              fontSize="11.5"
              className="mono"
              fill={dimmed && !touched.has(label.id) ? "var(--faint)" : "var(--ink)"}
              data-label="device"
              {...BOLD}
            >
              {label.text}
            </text>
          ),
        )}
      </g>
    </>
  );
});

const ends = ({ from, to }: Line) => ({ x1: from.x, y1: from.y, x2: to.x, y2: to.y });

function Cables({
  lines,
  dimmed,
  picked,
  pick,
}: {
  lines: Line[];
  dimmed: boolean;
  picked: string[];
  pick: (cables: string[]) => void;
}) {
  const isPicked = new Set(picked);
  return (
    <>
      <g stroke="var(--faint)" opacity={dimmed ? 0.38 : 0.7}>
        {lines.map((line) => (
          <line
            key={line.key}
            {...ends(line)}
            strokeWidth={Math.min(2.2, 0.9 + 0.1 * line.count)}
            // Solid is routed, dotted switched; what is down is hardly there.
            strokeDasharray={line.up ? (line.switched ? "1.5 3.5" : undefined) : "1 9"}
            strokeLinecap={line.switched ? "round" : undefined}
          />
        ))}
      </g>
      <g>
        {lines.map((line) => (
          // biome-ignore lint/a11y/noStaticElementInteractions: a key steps through the cables of the chosen device
          <line
            key={line.key}
            {...ends(line)}
            stroke={line.cables.some((name) => isPicked.has(name)) ? "var(--mark)" : "transparent"}
            strokeWidth={HIT}
            className="cursor-pointer"
            data-cable={line.cables[0]}
            onClick={() => pick(line.cables)}
          />
        ))}
      </g>
    </>
  );
}

function ClusterMark({
  mark,
  dimmed,
  open,
}: {
  mark: Mark;
  dimmed: boolean;
  open: (member: string) => void;
}) {
  const { members, sites } = mark.cluster;
  const show = () => open(members[0] ?? "");
  return (
    // biome-ignore lint/a11y/useSemanticElements: a button cannot stand inside a drawing
    <g
      transform={`translate(${mark.x} ${mark.y})`}
      opacity={dimmed ? 0.55 : 1}
      className="cursor-zoom-in outline-offset-4"
      role="button"
      tabIndex={0}
      aria-label={`open ${members.length} devices${sites.length > 0 ? ` of ${sites.join(", ")}` : ""}`}
      onClick={show}
      onKeyDown={(event) => {
        if (event.key === "Enter" || event.key === " ") show();
      }}
    >
      <circle r={radius(members.length)} fill="var(--wash)" stroke="var(--faint)" />
      <text textAnchor="middle" dy="4" fontSize="11.5" fill="var(--ink)">
        {members.length}
      </text>
    </g>
  );
}

function DeviceMark({
  mark,
  kind,
  isChosen,
  isTouched,
  dimmed,
  choose,
}: {
  mark: Mark;
  kind: string;
  isChosen: boolean;
  isTouched: boolean;
  dimmed: boolean;
  choose: (device: string) => void;
}) {
  const name = mark.cluster.id;
  return (
    // biome-ignore lint/a11y/useSemanticElements: a button cannot stand inside a drawing
    <g
      transform={`translate(${mark.x} ${mark.y})`}
      role="button"
      tabIndex={isTouched ? 0 : -1}
      aria-label={`${kind} ${name}`}
      aria-pressed={isChosen}
      data-device={name}
      opacity={dimmed && !isTouched ? 0.45 : 1}
      className="cursor-pointer outline-offset-4"
      onClick={() => choose(name)}
      onKeyDown={(event) => {
        if (event.key === "Enter" || event.key === " ") choose(name);
      }}
    >
      <title>{name}</title>
      <circle r="13" fill={isChosen ? "var(--mark)" : "transparent"} />
      <path
        d={kindPath(kind)}
        fill={kind === "host" ? "var(--ink)" : "var(--paper)"}
        stroke="var(--ink)"
        strokeWidth="1.5"
      />
    </g>
  );
}

/** Steps as arrows, each kept to its own side of its cable so that both directions are seen. */
function Way({
  steps,
  run,
  tone,
  isFormer = false,
}: {
  steps: Step[];
  run: Drawing["run"];
  tone: string;
  isFormer?: boolean;
}) {
  return (
    <g
      stroke={tone}
      fill="none"
      strokeWidth={isFormer ? 1.2 : 2.4}
      strokeLinecap="round"
      data-testid={isFormer ? "former-way" : undefined}
    >
      {steps.map(({ from, to, link }) => {
        const [a, b] = run(from, to, link);
        const length = Math.hypot(b.x - a.x, b.y - a.y);
        if (length < 1) return null;
        const [ux, uy] = [(b.x - a.x) / length, (b.y - a.y) / length];
        const [px, py] = [-uy * 3.2, ux * 3.2];
        const start = { x: a.x + ux * 9 + px, y: a.y + uy * 9 + py };
        const end = { x: b.x - ux * 10 + px, y: b.y - uy * 10 + py };
        const wing = (side: number) =>
          `${end.x - ux * 6 + side * uy * 3.4} ${end.y - uy * 6 - side * ux * 3.4}`;
        return (
          <path
            key={`${from} ${to} ${link}`}
            d={`M${start.x} ${start.y}L${end.x} ${end.y}M${wing(1)}L${end.x} ${end.y}L${wing(-1)}`}
          />
        );
      })}
    </g>
  );
}
