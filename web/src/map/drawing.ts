import type { MapData } from "../api/client";
import { type Cluster, clusters, radius } from "./clusters";
import { type Box, boxAround, type Layout, type Point } from "./geometry";
import { type Label, overlap, type Placed, placeLabels } from "./labels";

const CHARACTER = 6.9;
const SITE_CHARACTER = 8;
/** A name stands so far from its device, and keeps so far from the marks of others: it is nearest to its own. */
const AWAY = 11;
const CLEAR = 2;
const LINE = { device: 15, site: 22 };
/** Cables between the same two marks that are drawn one beside the other; more are drawn as so many. */
const MOST_BESIDE = 5;
const BESIDE = 8;
/** The scale at which a cluster is opened, and the room around it. */
const OPENED = 0.85;
const ROOM = { x: 100, y: 40 };

export type Mark = Point & { cluster: Cluster };
export type Line = {
  key: string;
  /** The clusters that it joins. */
  ends: [string, string];
  from: Point;
  to: Point;
  up: boolean;
  switched: boolean;
  count: number;
  /** The cables that it stands for, by name. */
  cables: string[];
  /** Drawn over the ground of the opened cluster. */
  above: boolean;
};
export type Drawing = {
  marks: Mark[];
  lines: Line[];
  labels: (Placed & { text: string; site: boolean })[];
  opened: Box | null;
  /** Where a cable between two devices runs, at their marks' edges' middles; without its number, the first. */
  run: (from: string, to: string, link: number | null) => [Point, Point];
};
export type Wanted = {
  map: MapData;
  layout: Layout;
  scale: number;
  touched: ReadonlySet<string>;
  endings: ReadonlyMap<string, unknown>;
  chosen: string | null;
  /** The cluster that is opened in place, by one of its members. */
  opened: string | null;
  /** What is near the window. */
  visible: Box;
  /** What no name may leave, where all is seen. */
  edge: Box | null;
};

/** Marks, lines and labels of a map at a scale, in pixels from the layout's own origin. */
export function draw(wanted: Wanted): Drawing {
  const { map, layout, scale, touched, chosen, visible } = wanted;
  const apart = new Set(touched);
  if (chosen !== null) apart.add(chosen);
  const sites = new Map(map.devices.map((device) => [device.name, device.site]));
  const kinds = new Map(map.devices.map((device) => [device.name, device.kind]));
  const closed = clusters(layout, sites, scale, apart);
  const { made, ground } = openedIn(closed, wanted);
  const clusterOf = new Map(made.flatMap((one) => one.members.map((name) => [name, one] as const)));
  const at = (cluster: Cluster): Point => ({ x: cluster.x * scale, y: cluster.y * scale });
  const near = ({ x, y }: Point) =>
    x > visible.left && x < visible.right && y > visible.top && y < visible.bottom;
  const inside = new Set(ground?.members);
  const covered = (mark: Mark) =>
    ground !== null &&
    !mark.cluster.members.some((name) => inside.has(name) || apart.has(name)) &&
    overlap(ground.box, square(mark, radius(mark.cluster.members.length)));

  const marks = made
    .map((cluster) => ({ cluster, ...at(cluster) }))
    .filter((mark) => near(mark) && !covered(mark));
  const { lines, laneOf } = linesOf(map, kinds, clusterOf, at);
  const hidden = new Set(made.filter((one) => covered({ cluster: one, ...at(one) })).map((one) => one.id));
  const shown = lines.filter(
    ({ from, to, ends }) => (near(from) || near(to)) && !ends.some((end) => hidden.has(end)),
  );
  for (const line of shown) line.above = line.ends.some((id) => inside.has(id));
  const labels = labelsOf(wanted, made, marks, kinds, sidesOf(shown), ground);
  const text = new Map(labels.map((label) => [label.id, label]));
  const placed = placeLabels(
    labels,
    [
      ...marks.map((mark) => square(mark, radius(mark.cluster.members.length) + CLEAR)),
      // The sign of an ending stands up and right of its device.
      ...marks
        .filter((mark) => wanted.endings.has(mark.cluster.id))
        .map((mark) => square({ x: mark.x + 14, y: mark.y - 12 }, 9)),
    ],
    shown.flatMap(endsOf),
    wanted.edge,
  );
  return {
    marks,
    lines: shown,
    labels: placed.map((one) => {
      const { words = one.id, site = false } = text.get(one.id) ?? {};
      return { ...one, text: words, site };
    }),
    opened: ground?.box ?? null,
    run: (from, to, link) => {
      const [a, b] = [clusterOf.get(from), clusterOf.get(to)];
      if (!a || !b)
        return [
          { x: 0, y: 0 },
          { x: 0, y: 0 },
        ];
      const lane = laneOf(a, b, link);
      return beside(at(a), at(b), a.id < b.id ? lane : -lane);
    },
  };
}

/** The ground on which the opened cluster is drawn. */
type Ground = { box: Box; members: string[]; sites: string[] };

/** The clusters with the opened one in its members, drawn apart around its middle. */
function openedIn(
  closed: Cluster[],
  { opened, layout, scale, edge }: Wanted,
): { made: Cluster[]; ground: Ground | null } {
  const one = closed.find((cluster) => cluster.members.length > 1 && cluster.members.includes(opened ?? ""));
  if (!one) return { made: closed, ground: null };
  const factor = Math.max(OPENED / scale, 1);
  const places = one.members.map((name) => layout.devices.get(name) as Point);
  const box = boxAround(places);
  const middle = { x: (box.left + box.right) / 2, y: (box.top + box.bottom) / 2 };
  const spread = places.map(({ x, y }) => ({
    x: (one.x + (x - middle.x) * factor) * scale,
    y: (one.y + (y - middle.y) * factor) * scale,
  }));
  const [right, down] = intoEdge(boxAround(spread), edge);
  const parts = one.members.map((name, at) => {
    const { x, y } = spread[at] as Point;
    return { id: name, members: [name], sites: [], x: (x + right) / scale, y: (y + down) / scale };
  });
  const drawn = boxAround(parts.map((part) => ({ x: part.x * scale, y: part.y * scale })));
  return {
    made: [...closed.filter((cluster) => cluster !== one), ...parts],
    ground: {
      members: one.members,
      sites: one.sites,
      box: {
        left: drawn.left - ROOM.x,
        right: drawn.right + ROOM.x,
        top: drawn.top - ROOM.y,
        bottom: drawn.bottom + ROOM.y,
      },
    },
  };
}

/** How far a box with its room is to move so that it lies within an edge. */
function intoEdge(box: Box, edge: Box | null): [number, number] {
  if (!edge) return [0, 0];
  const inside = (low: number, high: number, least: number, most: number) =>
    low < least ? least - low : high > most ? Math.max(least - low, most - high) : 0;
  return [
    inside(box.left - ROOM.x, box.right + ROOM.x, edge.left, edge.right),
    inside(box.top - ROOM.y, box.bottom + ROOM.y, edge.top, edge.bottom),
  ];
}

function linesOf(
  map: MapData,
  kinds: Map<string, string>,
  clusterOf: Map<string, Cluster>,
  at: (cluster: Cluster) => Point,
) {
  type Run = {
    a: Cluster;
    b: Cluster;
    cables: { link: number | null; name: string; up: boolean; switched: boolean }[];
  };
  const runs = new Map<string, Run>();
  const keyOf = (one: Cluster, other: Cluster) =>
    one.id < other.id ? `${one.id}\n${other.id}` : `${other.id}\n${one.id}`;
  for (const cable of map.cables) {
    const ends = [...new Set(cable.ends.map((end) => clusterOf.get(end.device)))].filter(
      (one) => one !== undefined,
    );
    const switched = cable.ends.some((end) => kinds.get(end.device) === "switch") || ends.length > 2;
    const hub = ends[0];
    for (const other of ends.slice(1)) {
      if (!hub) continue;
      const key = keyOf(hub, other);
      const [a, b] = hub.id < other.id ? [hub, other] : [other, hub];
      const run = runs.get(key) ?? { a, b, cables: [] };
      run.cables.push({ link: cable.link, name: cableName(cable), up: cable.up, switched });
      runs.set(key, run);
    }
  }
  const lines: Line[] = [];
  for (const [key, { a, b, cables }] of runs) {
    const single = a.members.length === 1 && b.members.length === 1;
    if (single && cables.length <= MOST_BESIDE)
      cables.forEach(({ link, name, up, switched }, index) => {
        const [from, to] = beside(at(a), at(b), lane(index, cables.length));
        lines.push({
          ends: [a.id, b.id],
          key: index === 0 ? key : `${key}\n${link}`,
          from,
          to,
          up,
          switched,
          count: 1,
          cables: [name],
          above: false,
        });
      });
    else
      lines.push({
        ends: [a.id, b.id],
        key,
        from: at(a),
        to: at(b),
        up: cables.some((cable) => cable.up),
        switched: cables.every((cable) => cable.switched),
        count: cables.length,
        cables: cables.map((cable) => cable.name),
        above: false,
      });
  }
  const laneOf = (one: Cluster, other: Cluster, link: number | null) => {
    const cables = runs.get(keyOf(one, other))?.cables ?? [];
    if (cables.length > MOST_BESIDE || one.members.length > 1 || other.members.length > 1) return 0;
    const index = cables.findIndex((cable) => cable.link === link);
    return lane(Math.max(0, index), cables.length);
  };
  return { lines, laneOf };
}

/** What a cable is called: by the interfaces that it joins. */
export function cableName(cable: MapData["cables"][number]): string {
  return cable.ends.map((end) => `${end.device}:${end.interface}`).join(" – ");
}

/** How far from the straight way the cable of an index runs. */
function lane(index: number, cables: number): number {
  return cables <= 1 ? 0 : (index - (cables - 1) / 2) * BESIDE;
}

/** Two points moved sideways, to the right of the way from one to the other. */
function beside(from: Point, to: Point, away: number): [Point, Point] {
  const length = Math.hypot(to.x - from.x, to.y - from.y) || 1;
  const [x, y] = [(-(to.y - from.y) / length) * away, ((to.x - from.x) / length) * away];
  return [
    { x: from.x + x, y: from.y + y },
    { x: to.x + x, y: to.y + y },
  ];
}

/** Boxes where a line meets its marks: no name is to lie on them. */
function endsOf({ from, to }: Line): Box[] {
  const length = Math.hypot(to.x - from.x, to.y - from.y);
  if (length < 60) return [];
  const [x, y] = [(to.x - from.x) / length, (to.y - from.y) / length];
  return [13, 19, 25].flatMap((away) => [
    square({ x: from.x + x * away, y: from.y + y * away }, 1),
    square({ x: to.x - x * away, y: to.y - y * away }, 1),
  ]);
}

/** The side of each mark, by its place, on which no cable ends: where all of them lead to the other. */
function sidesOf(lines: Line[]): Map<string, -1 | 1 | null> {
  const sides = new Map<string, -1 | 1 | null>();
  const note = (at: Point, to: Point) => {
    const key = keyOfPlace(at);
    const flat = Math.abs(to.x - at.x) > 0.6 * Math.abs(to.y - at.y);
    const side = !flat ? null : to.x > at.x ? -1 : 1;
    sides.set(key, sides.has(key) && sides.get(key) !== side ? null : side);
  };
  for (const { from, to } of lines) {
    note(from, to);
    note(to, from);
  }
  return sides;
}

function keyOfPlace({ x, y }: Point): string {
  return `${Math.round(x)} ${Math.round(y)}`;
}

type Worded = Label & { words: string; site: boolean };

function labelsOf(
  { layout, scale, touched, chosen, map }: Wanted,
  made: Cluster[],
  marks: Mark[],
  kinds: Map<string, string>,
  sides: Map<string, -1 | 1 | null>,
  ground: Ground | null,
): Worded[] {
  const titles = new Map(map.sites.map((site) => [site.name, site.label]));
  const inCluster = new Set(made.flatMap((cluster) => cluster.sites));
  const labels: Worded[] = [];
  for (const { cluster, x, y } of marks) {
    if (cluster.members.length === 1) {
      const name = cluster.id;
      const rank = name === chosen ? 0 : touched.has(name) ? 1 : kinds.get(name) === "host" ? 6 : 4;
      if (layout.devices.size > 60 && rank > 1 && marks.length >= 160 && scale < 0.5) continue;
      const width = name.length * CHARACTER + 8;
      const side = sides.get(keyOfPlace({ x, y })) ?? null;
      labels.push({
        id: name,
        x,
        y,
        width,
        height: LINE.device,
        rank,
        away: AWAY,
        side,
        must: rank < 2,
        close: touched.size > 0 && rank > 1,
        words: name,
        site: false,
      });
    } else if (cluster.sites.length > 0) {
      const [first = "", ...more] = cluster.sites.map((site) => titles.get(site) ?? site);
      const words = more.length > 0 ? `${first} and ${more.length} more` : first;
      const width = words.length * SITE_CHARACTER + 6;
      const away = radius(cluster.members.length) + CLEAR + 1;
      labels.push({
        id: `site ${cluster.id}`,
        x,
        y,
        width,
        height: LINE.site,
        rank: 2,
        must: true,
        close: true,
        away,
        words,
        site: true,
      });
    }
  }
  for (const { name, label, box } of layout.sites) {
    if (inCluster.has(name)) continue;
    const isOpened = ground?.sites.includes(name) ?? false;
    const top =
      ground && isOpened
        ? { x: (ground.box.left + ground.box.right) / 2, y: ground.box.top + 16 }
        : { x: ((box.left + box.right) / 2) * scale, y: box.top * scale - 26 };
    const width = label.length * SITE_CHARACTER + 6;
    if (ground && !isOpened && overlap(ground.box, square(top, width / 2))) continue;
    labels.push({
      id: `site ${name}`,
      ...top,
      width,
      height: LINE.site,
      // Among what a way does not touch, sites come before devices.
      rank: touched.size > 0 ? 3 : 7,
      away: 10,
      upright: true,
      words: label,
      site: true,
    });
  }
  return labels;
}

function square({ x, y }: Point, half: number): Box {
  return { left: x - half, top: y - half, right: x + half, bottom: y + half };
}
