import type { Point } from "./layout";

/** Devices drawn as one mark, because at this scale they would lie on each other. */
export type Cluster = Point & { id: string; members: string[] };

const CELL = 44;

/**
 * Devices by the cell of a grid they fall into at a scale; those in `apart` always stand alone. Cells are
 * fixed to the picture, not to the window, so that panning changes nothing.
 */
export function clusters(places: Map<string, Point>, scale: number, apart: Set<string>): Cluster[] {
  const cells = new Map<string, string[]>();
  const alone: Cluster[] = [];
  for (const [name, place] of places) {
    if (apart.has(name)) {
      alone.push({ id: name, members: [name], ...place });
      continue;
    }
    const cell = `${Math.floor((place.x * scale) / CELL)} ${Math.floor((place.y * scale) / CELL)}`;
    const members = cells.get(cell);
    if (members) members.push(name);
    else cells.set(cell, [name]);
  }
  const grouped = [...cells.values()].map((members) => {
    const points = members.map((name) => places.get(name) as Point);
    return {
      id: members[0] as string,
      members,
      x: points.reduce((sum, point) => sum + point.x, 0) / points.length,
      y: points.reduce((sum, point) => sum + point.y, 0) / points.length,
    };
  });
  return [...grouped, ...alone];
}
