import { useMemo } from "react";
import type { MapData } from "../api/client";
import { kindPath, VerdictMark } from "../ui/marks";
import { type Cluster, clusters, radius } from "./clusters";
import { type Label, placeLabels } from "./labels";
import type { layOut, Point } from "./layout";
import type { Traces } from "./ways";

const CHARACTER = 6.9;

export type View = { scale: number; x: number; y: number };
export type Size = { width: number; height: number };

const NOTHING: Traces = { forward: [], back: [], endings: new Map(), touched: new Set() };

export function Picture({
  map,
  layout,
  scale,
  traces,
  chosen,
  choose,
  window: visible,
  zoom,
  view,
}: {
  map: MapData;
  layout: ReturnType<typeof layOut>;
  scale: number;
  traces: Traces | undefined;
  chosen: string | null;
  choose: (device: string) => void;
  window: string;
  zoom: (factor: number, at: Point) => void;
  view: View;
}) {
  const { forward, back, endings, touched } = traces ?? NOTHING;

  const drawn = useMemo(() => {
    const [left = 0, top = 0, right = 0, bottom = 0] = visible.split(" ").map(Number);
    const apart = new Set(touched);
    if (chosen) apart.add(chosen);
    const made =
      layout.devices.size > 60
        ? clusters(layout.devices, scale, apart)
        : [...layout.devices].map(([name, place]) => ({ id: name, members: [name], ...place }));
    const clusterOf = new Map(
      made.flatMap((cluster) => cluster.members.map((name) => [name, cluster] as const)),
    );
    const at = (cluster: Cluster): Point => ({ x: cluster.x * scale, y: cluster.y * scale });
    const near = (point: Point) => point.x > left && point.x < right && point.y > top && point.y < bottom;
    const kinds = new Map(map.devices.map((device) => [device.name, device.kind]));
    const lines = new Map<
      string,
      { from: Point; to: Point; up: boolean; switched: boolean; count: number }
    >();
    for (const cable of map.cables) {
      const ends = [...new Set(cable.ends.map((end) => clusterOf.get(end.device)))].filter(
        (one) => one !== undefined,
      );
      const hub = ends[0];
      const switched = cable.ends.some((end) => kinds.get(end.device) === "switch") || ends.length > 2;
      for (const other of ends.slice(1)) {
        if (!hub) continue;
        const [from, to] = [at(hub), at(other)];
        if (!near(from) && !near(to)) continue;
        const key = hub.id < other.id ? `${hub.id}\n${other.id}` : `${other.id}\n${hub.id}`;
        const line = lines.get(key);
        if (line) {
          line.count += 1;
          line.up ||= cable.up;
          line.switched &&= switched;
        } else lines.set(key, { from, to, up: cable.up, switched, count: 1 });
      }
    }
    const marks = made.map((cluster) => ({ cluster, ...at(cluster) })).filter(near);
    const labels: Label[] = marks
      .filter((mark) => mark.cluster.members.length === 1)
      .map((mark) => {
        const name = mark.cluster.id;
        const rank = name === chosen ? 0 : touched.has(name) ? 1 : kinds.get(name) === "host" ? 6 : 4;
        return { id: name, x: mark.x, y: mark.y, width: name.length * CHARACTER + 4, height: 14, rank };
      })
      .filter((label) => layout.devices.size <= 60 || label.rank < 2 || marks.length < 160);
    const siteLabels: Label[] = layout.sites.map((site) => ({
      id: `site ${site.name}`,
      x: site.x * scale,
      y: siteTop(site.name, map, layout, scale) - 26,
      width: site.label.length * 8 + 6,
      height: 18,
      rank: 2,
      upright: true,
    }));
    const placed = placeLabels(
      [...labels, ...siteLabels],
      [
        ...marks.map((mark) => ({ x: mark.x, y: mark.y, radius: radius(mark.cluster.members.length) })),
        // The sign of an ending stands up and right of its device.
        ...marks
          .filter((mark) => endings.has(mark.cluster.id))
          .map((mark) => ({ x: mark.x + 14, y: mark.y - 12, radius: 9 })),
      ],
    );
    return { marks, lines: [...lines], placed, clusterOf, at, kinds };
  }, [layout, scale, touched, chosen, map, visible, endings]);

  const place = (name: string): Point => {
    const cluster = drawn.clusterOf.get(name);
    return cluster ? drawn.at(cluster) : { x: 0, y: 0 };
  };
  const dimmed = touched.size > 0;
  const siteLabelOf = new Map(layout.sites.map((site) => [`site ${site.name}`, site.label]));
  return (
    <>
      <g stroke="var(--faint)" opacity={dimmed ? 0.38 : 0.7}>
        {drawn.lines.map(([key, line]) => (
          <line
            key={key}
            x1={line.from.x}
            y1={line.from.y}
            x2={line.to.x}
            y2={line.to.y}
            strokeWidth={Math.min(2.2, 0.8 + 0.1 * line.count)}
            // Solid is routed, dotted switched; what is down is hardly there.
            strokeDasharray={line.up ? (line.switched ? "1.5 3.5" : undefined) : "1 9"}
            strokeLinecap={line.switched ? "round" : undefined}
          />
        ))}
      </g>
      <Steps steps={forward} place={place} tone="var(--forward)" />
      <Steps steps={back} place={place} tone="var(--return)" />
      {drawn.marks.map(({ cluster, x, y }) =>
        cluster.members.length > 1 ? (
          // biome-ignore lint/a11y/noStaticElementInteractions: the same is done by the key for nearer
          <g
            key={cluster.id}
            transform={`translate(${x} ${y})`}
            opacity={dimmed ? 0.55 : 1}
            className="cursor-zoom-in"
            onClick={() => zoom(2, { x: x + view.x, y: y + view.y })}
          >
            <circle r={radius(cluster.members.length)} fill="var(--wash)" stroke="var(--faint)" />
            <text textAnchor="middle" dy="4" fontSize="11.5" fill="var(--ink)">
              {cluster.members.length}
            </text>
          </g>
        ) : (
          // biome-ignore lint/a11y/useSemanticElements: a button cannot stand inside a drawing
          <g
            key={cluster.id}
            transform={`translate(${x} ${y})`}
            role="button"
            tabIndex={touched.has(cluster.id) ? 0 : -1}
            aria-label={`${drawn.kinds.get(cluster.id)} ${cluster.id}`}
            aria-pressed={cluster.id === chosen}
            opacity={dimmed && !touched.has(cluster.id) ? 0.45 : 1}
            className="cursor-pointer outline-offset-4"
            onClick={() => choose(cluster.id)}
            onKeyDown={(event) => {
              if (event.key === "Enter" || event.key === " ") choose(cluster.id);
            }}
          >
            <circle r="13" fill={cluster.id === chosen ? "var(--mark)" : "transparent"} />
            <path
              d={kindPath(drawn.kinds.get(cluster.id) ?? "router")}
              fill={drawn.kinds.get(cluster.id) === "host" ? "var(--ink)" : "var(--paper)"}
              stroke="var(--ink)"
              strokeWidth="1.5"
            />
          </g>
        ),
      )}
      {[...endings].map(([device, verdict]) => {
        const at = place(device);
        return (
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
        );
      })}
      <g className="pointer-events-none" textAnchor="middle">
        {drawn.placed.map((label) => {
          const site = siteLabelOf.get(label.id);
          return site ? (
            <text
              key={label.id}
              x={label.x}
              y={label.y + 5}
              fontSize="15"
              fontStyle="italic"
              fill="var(--faint)"
            >
              {site}
            </text>
          ) : (
            <text
              key={label.id}
              x={label.x}
              y={label.y + 4}
              fontSize="11.5"
              className="mono"
              fill="var(--ink)"
              opacity={dimmed && !touched.has(label.id) ? 0.6 : 1}
            >
              {label.id}
            </text>
          );
        })}
      </g>
    </>
  );
}

function siteTop(site: string, map: MapData, layout: ReturnType<typeof layOut>, scale: number): number {
  const tops = map.devices
    .filter((device) => device.site === site)
    .map((device) => (layout.devices.get(device.name)?.y ?? 0) * scale);
  return Math.min(...tops);
}

function Steps({
  steps,
  place,
  tone,
}: {
  steps: [string, string][];
  place: (name: string) => Point;
  tone: string;
}) {
  return (
    <g stroke={tone} fill="none" strokeWidth="2.4" strokeLinecap="round">
      {steps.map(([from, to]) => {
        const [a, b] = [place(from), place(to)];
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
            key={`${from} ${to}`}
            d={`M${start.x} ${start.y}L${end.x} ${end.y}M${wing(1)}L${end.x} ${end.y}L${wing(-1)}`}
          />
        );
      })}
    </g>
  );
}
