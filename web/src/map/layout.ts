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
 * Places for all devices: those of a site around it, the others where their cables pull them. The same
 * network gives the same picture: the simulation has no chance in it.
 */
export function layOut(map: MapData): Layout {
  const sites = placeSites(map);
  const homes = new Map(sites.map((site) => [site.name, site]));
  const count = map.devices.length;
  const spread = Math.max(1, Math.sqrt(count / 60));
  const bodies: Body[] = map.devices.map((device, index) => {
    const home = homes.get(device.site ?? "") ?? null;
    const angle = index * 2.399963;
    const away = home ? 8 * spread * Math.sqrt((index % 60) + 1) : 12 * Math.sqrt(index + 1);
    const centre = home ? scaled(home, spread) : { x: (WIDTH * spread) / 2, y: (HEIGHT * spread) / 2 };
    return {
      name: device.name,
      kind: device.kind,
      home: home ? centre : null,
      x: centre.x + away * Math.cos(angle),
      y: centre.y + away * Math.sin(angle),
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
    return a.home !== null && a.home.x === b.home?.x && a.home.y === b.home?.y;
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

function scaled(point: Point, spread: number): Point {
  return { x: point.x * spread, y: point.y * spread };
}
