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
import type { Point } from "./geometry";
import { neighborsOf, rowsFrom } from "./tiers";

const WIDTH = 700;
const HEIGHT = 640;
const STEP = 55;

type Body = SimulationNodeDatum & { name: string };

/** Devices where their cables pull them, starting from rows, so that what lies in a line is drawn in a line. */
export function forced(map: MapData): Map<string, Point> {
  const count = map.devices.length;
  const spread = Math.max(1, Math.sqrt(count / 60));
  const starts = unfolded(map, spread);
  const bodies: Body[] = map.devices.map(({ name }) => ({ name, ...(starts.get(name) ?? { x: 0, y: 0 }) }));
  const byName = new Map(bodies.map((body) => [body.name, body]));
  const links: SimulationLinkDatum<Body>[] = [];
  for (const [name, others] of neighborsOf(map))
    for (const other of others) {
      const [source, target] = [byName.get(name), byName.get(other)];
      // Every cable is met from both of its ends.
      if (source && target && name < other) links.push({ source, target });
    }
  forceSimulation(bodies)
    .stop()
    .force("link", forceLink(links).distance(60).strength(0.5))
    .force("apart", forceManyBody().strength(-130).distanceMax(220))
    .force("room", forceCollide(26))
    .force("x", forceX(0).strength(0.02))
    .force("y", forceY(0).strength(0.02))
    .tick(count > 3000 ? 0 : count > 600 ? 60 : count > 200 ? 140 : 320);
  return new Map(bodies.map((body) => [body.name, { x: body.x ?? 0, y: body.y ?? 0 }]));
}

/** Places to start from: in rows by how far cables lead from an end of the network. */
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
