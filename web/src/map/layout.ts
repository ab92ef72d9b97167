import {
  forceCollide,
  forceLink,
  forceManyBody,
  forceSimulation,
  forceX,
  forceY,
  type SimulationLinkDatum,
  type SimulationNodeDatum,
} from "d3-force";
import type { MapData } from "../api/client";
import { neighborsOf, rowsFrom, tiered } from "./tiers";

export type Point = { x: number; y: number };
export type SitePlace = Point & { name: string; label: string };
export type Layout = { devices: Map<string, Point>; sites: SitePlace[] };

const WIDTH = 700;
const HEIGHT = 640;

type Body = SimulationNodeDatum & { name: string; home: Point | null; kind: string };

/** Where each site stands: as the network says, else on a ring. */
export function placeSites(map: MapData): SitePlace[] {
  const used = new Set(map.devices.map((device) => device.site));
  const sites = map.sites.filter((site) => used.has(site.name));
  return sites.map((site, index) => {
    const angle = (2 * Math.PI * index) / sites.length - Math.PI / 2;
    return {
      name: site.name,
      label: site.label,
      x: (site.x ?? 0.5 + 0.42 * Math.cos(angle)) * WIDTH,
      y: (site.y ?? 0.5 + 0.42 * Math.sin(angle)) * HEIGHT,
    };
  });
}

/**
 * Places for all devices: those of a site around it, a network without sites in its tiers where it has some, all
 * others where their cables pull them. The same network gives the same picture: the simulation has no chance in it.
 */
export function layOut(map: MapData): Layout {
  const sites = placeSites(map);
  const tiers = sites.length === 0 ? tiered(map) : null;
  if (tiers) return { devices: tiers, sites };
  const homes = new Map(sites.map((site) => [site.name, site]));
  const count = map.devices.length;
  const spread = Math.max(1, Math.sqrt(count / 60));
  const starts = unfolded(map, spread);
  const bodies: Body[] = map.devices.map((device, index) => {
    const home = homes.get(device.site ?? "") ?? null;
    const angle = index * 2.399963;
    const away = 8 * spread * Math.sqrt((index % 60) + 1);
    const centre = home ? scaled(home, spread) : { x: (WIDTH * spread) / 2, y: (HEIGHT * spread) / 2 };
    const start = starts.get(device.name) ?? { x: 0, y: 0 };
    return {
      name: device.name,
      kind: device.kind,
      home: home ? centre : null,
      x: centre.x + (home ? away * Math.cos(angle) : start.x),
      y: centre.y + (home ? away * Math.sin(angle) : start.y),
    };
  });
  const byName = new Map(bodies.map((body) => [body.name, body]));
  const links: SimulationLinkDatum<Body>[] = [];
  for (const cable of map.cables) {
    const ends = [...new Set(cable.ends.map((end) => end.device))];
    const hub = byName.get(ends[0] ?? "");
    for (const other of ends.slice(1)) {
      const body = byName.get(other);
      if (hub && body) links.push({ source: hub, target: body });
    }
  }
  const within = (link: SimulationLinkDatum<Body>) => {
    const [a, b] = [link.source as Body, link.target as Body];
    return a.home?.x === b.home?.x && a.home?.y === b.home?.y;
  };
  const simulation = forceSimulation(bodies)
    .stop()
    .force(
      "link",
      forceLink(links)
        .distance((link) => (within(link) ? 60 : 90))
        .strength((link) => (within(link) ? 0.5 : 0.02)),
    )
    .force("apart", forceManyBody().strength(-130).distanceMax(220))
    .force("room", forceCollide(26))
    .force(
      "x",
      forceX<Body>((body) => body.home?.x ?? (WIDTH * spread) / 2).strength((body) =>
        body.home ? 0.28 : 0.02,
      ),
    )
    .force(
      "y",
      forceY<Body>((body) => body.home?.y ?? (HEIGHT * spread) / 2).strength((body) =>
        body.home ? 0.28 : 0.02,
      ),
    );
  simulation.tick(count > 600 ? 60 : count > 200 ? 140 : 320);
  return {
    devices: new Map(bodies.map((body) => [body.name, { x: body.x ?? 0, y: body.y ?? 0 }])),
    sites: sites.map((site) => ({ ...site, ...scaled(site, spread) })),
  };
}

const STEP = 55;

/** Places for devices without a site to start from, relative to the middle: in rows by how far cables lead from an
 * end of the network, so that what lies in a line starts in a line. */
function unfolded(map: MapData, spread: number): Map<string, Point> {
  const neighbors = neighborsOf(map);
  const places = new Map<string, Point>();
  let below = 0;
  for (const device of map.devices) {
    if (places.has(device.name)) continue;
    const farthest = rowsFrom([device.name], neighbors).at(-1)?.[0] ?? device.name;
    const found = rowsFrom([farthest], neighbors);
    const widest = Math.max(...found.map((row) => row.length));
    found.forEach((row, depth) => {
      row.forEach((name, at) => {
        const x = (depth - (found.length - 1) / 2) * STEP;
        places.set(name, { x, y: below + (at - (row.length - 1) / 2) * STEP });
      });
    });
    below += (widest + 1) * STEP;
  }
  return withinBounds(places, spread);
}

/** The same, drawn together where it reaches farther than the picture is to be. */
function withinBounds(places: Map<string, Point>, spread: number): Map<string, Point> {
  let [width, height] = [0, 0];
  for (const { x, y } of places.values()) {
    width = Math.max(width, 2 * Math.abs(x));
    height = Math.max(height, 2 * Math.abs(y));
  }
  const across = Math.min(1, (WIDTH * spread) / Math.max(1, width));
  const down = Math.min(1, (HEIGHT * spread) / Math.max(1, height));
  return new Map([...places].map(([name, { x, y }]) => [name, { x: x * across, y: y * down }]));
}

function scaled(point: Point, spread: number): Point {
  return { x: point.x * spread, y: point.y * spread };
}
