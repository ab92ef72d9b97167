import type { Point } from "./layout";

/** Devices drawn as one mark, because at this scale they would lie on each other. */
export type Cluster = Point & { id: string; members: string[] };

const CELL = 44;

/** How large a cluster's mark is drawn. */
export function radius(members: number): number {
  return members === 1 ? 8 : 11 + Math.min(8, Math.sqrt(members));
}

/**
 * Devices by the cell of a grid they fall into at a scale, and cells whose marks would lie on each other
 * joined; those in `apart` always stand alone. Cells are fixed to the picture, not to the window, so that
 * panning changes nothing.
 */
export function clusters(places: Map<string, Point>, scale: number, apart: Set<string>): Cluster[] {
  const cells = new Map<string, Cluster>();
  const alone: Cluster[] = [];
  for (const [name, place] of places) {
    const single = { id: name, members: [name], ...place };
    if (apart.has(name)) {
      alone.push(single);
      continue;
    }
    const cell = `${Math.floor((place.x * scale) / CELL)} ${Math.floor((place.y * scale) / CELL)}`;
    const standing = cells.get(cell);
    cells.set(cell, standing ? joined(standing, single) : single);
  }
  return [...withoutOverlap([...cells.values()], scale), ...alone];
}

function joined(one: Cluster, other: Cluster): Cluster {
  const [a, b] = [one.members.length, other.members.length];
  return {
    id: a >= b ? one.id : other.id,
    members: [...one.members, ...other.members],
    x: (one.x * a + other.x * b) / (a + b),
    y: (one.y * a + other.y * b) / (a + b),
  };
}

/** The largest first, each taken into one that stands where its mark would be. */
function withoutOverlap(found: Cluster[], scale: number): Cluster[] {
  const kept: Cluster[] = [];
  for (const one of found.sort((a, b) => b.members.length - a.members.length || (a.id < b.id ? -1 : 1))) {
    const near = kept.findIndex(
      (other) =>
        Math.hypot(other.x - one.x, other.y - one.y) * scale <
        radius(other.members.length) + radius(one.members.length),
    );
    if (near >= 0) kept[near] = joined(kept[near] as Cluster, one);
    else kept.push(one);
  }
  return kept;
}
