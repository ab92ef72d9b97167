import type { MapData } from "../api/client";
import type { Point } from "./geometry";

const COLUMN = 170;
const ROW = 22;
const MOST_TIERS = 5;
/** Of all cables, those that may lead elsewhere than from a tier to the next. */
const ODD_CABLES = 0.1;
const SWEEPS = 4;

/** The devices next to each, by name; a cable of several ends is a star. */
export function neighborsOf(map: MapData): Map<string, string[]> {
  const found = new Map<string, string[]>(map.devices.map((device) => [device.name, []]));
  for (const cable of map.cables) {
    const ends = [...new Set(cable.ends.map((end) => end.device))];
    const hub = ends[0] ?? "";
    for (const other of ends.slice(1)) {
      found.get(hub)?.push(other);
      found.get(other)?.push(hub);
    }
  }
  return found;
}

/** Devices in rows by how many cables lead to them from the nearest of some; what none leads to is left out. */
export function rowsFrom(starts: string[], neighbors: Map<string, string[]>): string[][] {
  const seen = new Set(starts);
  const found = [starts];
  for (let row = starts; row.length > 0; ) {
    const next: string[] = [];
    for (const name of row)
      for (const other of neighbors.get(name) ?? [])
        if (!seen.has(other)) {
          seen.add(other);
          next.push(other);
        }
    row = next;
    if (row.length > 0) found.push(row);
  }
  return found;
}

/**
 * A network without sites that stands in tiers, as columns from its hosts up: hosts, access, distribution or
 * spine. Null where it does not: no hosts, too many tiers, or cables that leave tiers out.
 */
export function tiered(map: MapData): Map<string, Point> | null {
  const hosts = map.devices.filter((device) => device.kind === "host").map((device) => device.name);
  const neighbors = neighborsOf(map);
  const tiers = rowsFrom(hosts, neighbors);
  const tierOf = new Map(tiers.flatMap((row, tier) => row.map((name) => [name, tier] as const)));
  if (hosts.length < 2 || tiers.length < 3 || tiers.length > MOST_TIERS) return null;
  if (tierOf.size < map.devices.length) return null;
  let [all, odd] = [0, 0];
  for (const [name, others] of neighbors)
    for (const other of others) {
      all += 1;
      odd += Math.abs((tierOf.get(name) ?? 0) - (tierOf.get(other) ?? 0)) === 1 ? 0 : 1;
    }
  if (odd > all * ODD_CABLES) return null;
  const columns = ordered([...tiers].reverse(), neighbors);
  const tallest = Math.max(...columns.map((column) => column.length));
  const places = new Map<string, Point>();
  columns.forEach((column, at) => {
    const step = (tallest * ROW) / column.length;
    column.forEach((name, index) => {
      places.set(name, { x: at * COLUMN, y: (index + 0.5) * step });
    });
  });
  return places;
}

/** Each column in the order of what its devices are cabled to in the one before, then after: few cables cross. */
export function ordered(columns: string[][], neighbors: Map<string, string[]>): string[][] {
  const place = new Map<string, number>();
  const note = (column: string[]) => {
    column.forEach((name, index) => {
      place.set(name, (index + 0.5) / column.length);
    });
  };
  columns.forEach(note);
  const found = columns.map((column) => [...column]);
  for (let sweep = 0; sweep < SWEEPS; sweep++) {
    const down = sweep % 2 === 0;
    for (let step = 1; step < found.length; step++) {
      const at = down ? step : found.length - 1 - step;
      const beside = new Set(found[down ? at - 1 : at + 1]);
      const column = found[at] ?? [];
      const middle = new Map(
        column.map((name) => {
          const others = (neighbors.get(name) ?? []).filter((other) => beside.has(other));
          const sum = others.reduce((total, other) => total + (place.get(other) ?? 0), 0);
          return [name, others.length > 0 ? sum / others.length : (place.get(name) ?? 0)];
        }),
      );
      column.sort((a, b) => (middle.get(a) ?? 0) - (middle.get(b) ?? 0));
      note(column);
    }
  }
  return found;
}
