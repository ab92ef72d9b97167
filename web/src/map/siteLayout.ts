import {
  forceLink,
  forceManyBody,
  forceSimulation,
  forceX,
  forceY,
  type SimulationLinkDatum,
  type SimulationNodeDatum,
} from "d3-force";
import type { MapData } from "../api/client";
import { type Box, boxAround, type Layout, type Point } from "./geometry";
import { neighborsOf, ordered, rowsFrom } from "./tiers";
import { untangle } from "./untangle";

const COLUMN = 112;
const ROW = 38;
const ASIDE = 30;
/** Room around a site for the names of its devices, its own, and the cables between sites. */
const ROOM = { x: 78, y: 40 };
/** How much more ground the picture starts from than its sites cover. */
const GROUND = 1.7;
const ROUNDS = 200;
/** A column of so few devices is never broken into several. */
const FEWEST_ROWS = 8;

/** More groups of devices without a site than this are laid out as one. */
const MOST_APART = 200;

/** Devices that are laid out together: a site, or devices of none that are cabled to each other. */
type Group = {
  name: string;
  label: string | null;
  /** Where the network says that it stands, from 0 to 1. */
  stands: Point | null;
  members: string[];
  /** Its tiers, each of one or more columns. */
  tiers: string[][][];
};
type Body = SimulationNodeDatum & { x: number; y: number };

/** A network with sites: each where the network puts it, else where its cables pull it, its devices in tiers. */
export function bySite(map: MapData): Layout {
  const neighbors = neighborsOf(map);
  const groups = groupsOf(map, neighbors);
  const inside = groups.map((group) => placed(group.tiers, neighbors));
  const groupOf = new Map(groups.flatMap((group, at) => group.members.map((name) => [name, at] as const)));
  const between = cablesBetween(neighbors, groupOf);
  const centres = centresOf(groups, inside.map(boxOf), between);
  const devices = new Map<string, Point>();
  inside.forEach((places, at) => {
    const centre = centres[at] as Point;
    for (const [name, { x, y }] of facing(places, at, centres, between))
      devices.set(name, { x: x + centre.x, y: y + centre.y });
  });
  untangle(
    devices,
    groups.map((group) => group.tiers.flat()),
    [...neighbors].flatMap(([name, others]) =>
      others.filter((other) => name < other).map((other) => [name, other] as const),
    ),
  );
  const sites = groups
    .filter((group) => group.label !== null)
    .map(({ name, label, members }) => ({
      name,
      label: label ?? name,
      box: boxAround(members.map((member) => devices.get(member) as Point)),
    }));
  return { devices, sites };
}

function groupsOf(map: MapData, neighbors: Map<string, string[]>): Group[] {
  const sites = new Map(map.sites.map((site) => [site.name, site]));
  const members = new Map<string, string[]>();
  for (const device of map.devices) {
    if (device.site === null) continue;
    const together = members.get(`site ${device.site}`);
    if (together) together.push(device.name);
    else members.set(`site ${device.site}`, [device.name]);
  }
  for (const together of withoutSite(map, neighbors)) members.set(`device ${together[0]}`, together);
  const kinds = new Map(map.devices.map((device) => [device.name, device.kind]));
  return [...members].map(([key, names]) => {
    const site = key.startsWith("site ") ? sites.get(key.slice(5)) : undefined;
    const stands = site && site.x !== null && site.y !== null ? { x: site.x, y: site.y } : null;
    return {
      name: site?.name ?? key,
      label: site?.label ?? null,
      stands,
      members: names,
      tiers: tiersOf(names, neighbors, kinds),
    };
  });
}

/** Devices of no site, those together that cables join without a site between. */
function withoutSite(map: MapData, neighbors: Map<string, string[]>): string[][] {
  const left = new Set(map.devices.filter((device) => device.site === null).map((device) => device.name));
  const all = [...left];
  const among = new Map(
    all.map((name) => [name, (neighbors.get(name) ?? []).filter((other) => left.has(other))]),
  );
  const found: string[][] = [];
  for (const name of all) {
    if (!left.has(name)) continue;
    const together = rowsFrom([name], among).flat();
    for (const one of together) left.delete(one);
    found.push(together);
  }
  return found.length > MOST_APART ? [all] : found;
}

/**
 * The tiers of a site as columns, from the devices with cables to other sites to those farthest from them; a site
 * without such cables from those farthest from its hosts.
 */
function tiersOf(
  names: string[],
  neighbors: Map<string, string[]>,
  kinds: Map<string, string>,
): string[][][] {
  const own = new Set(names);
  const within = new Map(
    names.map((name) => [name, (neighbors.get(name) ?? []).filter((other) => own.has(other))]),
  );
  const isHost = (name: string) => kinds.get(name) === "host";
  const outward = names.filter((name) => (neighbors.get(name) ?? []).some((other) => !own.has(other)));
  const hosts = names.filter(isHost);
  const borders = outward.filter((name) => !isHost(name));
  const starts = [borders, outward, hosts.length > 0 ? (rowsFrom(hosts, within).at(-1) ?? []) : []].find(
    (some) => some.length > 0,
  );
  const columns: string[][] = [];
  const left = new Set(names);
  for (let next = starts ?? [busiest(left, within)]; next.length > 0; ) {
    rowsFrom(next, within).forEach((row, tier) => {
      columns[tier] = [...(columns[tier] ?? []), ...row];
      for (const name of row) left.delete(name);
    });
    next = left.size > 0 ? [busiest(left, within)] : [];
  }
  return ordered(columns, within).map((column) => broken(column, names.length));
}

function busiest(names: Set<string>, neighbors: Map<string, string[]>): string {
  const degree = (name: string) => neighbors.get(name)?.length ?? 0;
  return [...names].reduce((best, name) => (degree(name) > degree(best) ? name : best));
}

/** A column as several where it is longer than its site should be tall, each device beside its neighbours still. */
function broken(column: string[], size: number): string[][] {
  const parts = Math.ceil(column.length / Math.max(FEWEST_ROWS, Math.ceil(2.2 * Math.sqrt(size))));
  return Array.from({ length: parts }, (_, part) => column.filter((_, at) => at % parts === part));
}

/** Columns from left to right, each tier spread over the height of the tallest, around the middle of all. */
function placed(tiers: string[][][], within: Map<string, string[]>): Map<string, Point> {
  const tallest = Math.max(...tiers.map(([first = []]) => first.length));
  const across = tiers.reduce((sum, columns) => sum + columns.length, 0);
  const places = new Map<string, Point>();
  let column = 0;
  for (const columns of tiers) {
    const longest = columns[0]?.length ?? 0;
    const step = Math.min(2.4 * ROW, (tallest * ROW) / longest);
    columns.forEach((names, part) => {
      names.forEach((name, at) => {
        // Those of the columns of a tier stand between each other, so that names have room.
        const row = at - (longest - 1) / 2 + (part + 0.5) / columns.length - 0.5;
        // Cables along a column pass beside the devices between.
        const aside = isWoven(names, within) && at % 2 === 1 ? ASIDE : 0;
        places.set(name, { x: (column - (across - 1) / 2) * COLUMN + aside, y: row * step });
      });
      column += 1;
    });
  }
  return places;
}

/** Whether cables join devices of a column that are not next to each other in it. */
function isWoven(column: string[], neighbors: Map<string, string[]>): boolean {
  const at = new Map(column.map((name, index) => [name, index]));
  return column.some((name, index) =>
    (neighbors.get(name) ?? []).some((other) => Math.abs((at.get(other) ?? index) - index) > 1),
  );
}

function boxOf(places: Map<string, Point>): Box {
  const { left, top, right, bottom } = boxAround(places.values());
  return { left: left - ROOM.x, top: top - ROOM.y, right: right + ROOM.x, bottom: bottom + ROOM.y };
}

/** How many cables lead from each group to which other. */
function cablesBetween(neighbors: Map<string, string[]>, groupOf: Map<string, number>) {
  const between: Map<number, number>[] = [];
  for (const [name, others] of neighbors)
    for (const other of others) {
      const [one, two] = [groupOf.get(name) as number, groupOf.get(other) as number];
      if (one === two) continue;
      between[one] ??= new Map();
      between[one].set(two, (between[one].get(two) ?? 0) + 1);
    }
  return between;
}

/** The middle of each group, such that no two boxes lie on each other. */
function centresOf(groups: Group[], boxes: Box[], between: Map<number, number>[]): Point[] {
  const ground = boxes.reduce((sum, box) => sum + (box.right - box.left) * (box.bottom - box.top), 0);
  const side = Math.sqrt(GROUND * ground);
  const bodies: Body[] = groups.map((group, at) => {
    const angle = (2 * Math.PI * at) / groups.length - Math.PI / 2;
    const ring = { x: 0.5 + 0.5 * Math.cos(angle), y: 0.5 + 0.5 * Math.sin(angle) };
    const { x, y } = group.stands ?? ring;
    const fixed = group.stands ? { fx: x * side, fy: y * side } : {};
    return { x: x * side, y: y * side, ...fixed };
  });
  if (groups.some((group) => group.stands === null)) pulled(bodies, between, side);
  return apart(bodies, boxes);
}

/** Move what stands nowhere of itself to where its cables pull it. */
function pulled(bodies: Body[], between: Map<number, number>[], side: number) {
  const links: SimulationLinkDatum<Body>[] = bodies.flatMap((source, at) =>
    [...(between[at] ?? [])]
      .filter(([other]) => at < other)
      .map(([other]) => ({ source, target: bodies[other] as Body })),
  );
  const far = side / Math.sqrt(bodies.length);
  forceSimulation(bodies)
    .stop()
    .force("link", forceLink(links).distance(far).strength(0.4))
    .force(
      "apart",
      forceManyBody()
        .strength(-far)
        .distanceMax(3 * far),
    )
    .force("x", forceX(side / 2).strength(0.03))
    .force("y", forceY(side / 2).strength(0.03))
    .tick(bodies.length > 300 ? 80 : 250);
}

/** Push boxes apart, each pair along the way on which it lies less on the other. */
function apart(bodies: Body[], boxes: Box[]): Point[] {
  const centres = bodies.map(({ x, y }) => ({ x, y }));
  const half = boxes.map((box) => ({ x: (box.right - box.left) / 2, y: (box.bottom - box.top) / 2 }));
  for (let round = 0, moved = true; moved && round < ROUNDS; round++) {
    moved = false;
    const order = centres.map((_, at) => at).sort((a, b) => left(a) - left(b));
    for (const [place, a] of order.entries())
      for (let next = place + 1; next < order.length; next++) {
        const b = order[next] as number;
        const [one, two] = [centres[a] as Point, centres[b] as Point];
        const across = (half[a]?.x ?? 0) + (half[b]?.x ?? 0) - Math.abs(two.x - one.x);
        if (left(b) > one.x + (half[a]?.x ?? 0)) break;
        const down = (half[a]?.y ?? 0) + (half[b]?.y ?? 0) - Math.abs(two.y - one.y);
        if (across <= 0.5 || down <= 0.5) continue;
        moved = true;
        if (across < down) {
          const push = (one.x <= two.x ? across : -across) / 2;
          one.x -= push;
          two.x += push;
        } else {
          const push = (one.y <= two.y ? down : -down) / 2;
          one.y -= push;
          two.y += push;
        }
      }
  }
  return centres;
  function left(at: number) {
    return (centres[at]?.x ?? 0) - (half[at]?.x ?? 0);
  }
}

/** A group turned so that its first tier faces what it is cabled to. */
function facing(places: Map<string, Point>, at: number, centres: Point[], between: Map<number, number>[]) {
  const own = centres[at] as Point;
  let pull = 0;
  for (const [other, cables] of between[at] ?? []) pull += cables * ((centres[other]?.x ?? 0) - own.x);
  if (pull <= 0) return places;
  return new Map([...places].map(([name, { x, y }]) => [name, { x: -x, y }]));
}
