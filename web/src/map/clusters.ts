import type { Layout, Point } from "./geometry";

/** Devices drawn as one mark, because at this scale they would lie on each other. */
export type Cluster = Point & { id: string; members: string[]; sites: string[] };

const CELL = 44;
/** Below this scale the marks of a site's devices would touch. */
const SITE_LEGIBLE = 0.42;
/** Networks of so few devices are drawn in full at any scale. */
const SMALL = 60;

/** How large a cluster's mark is drawn. */
export function radius(members: number): number {
  return members === 1 ? 8 : 11 + Math.min(8, Math.sqrt(members));
}

/** A device as what it is drawn by. */
function single(name: string, place: Point): Cluster {
  return { id: name, members: [name], sites: [], ...place };
}

/**
 * What is drawn of a layout at a scale: the devices of a site together where they would touch, others by the cell
 * of a grid they fall into, and clusters that would lie on each other joined; devices in `apart` always stand
 * alone. Cells are fixed to the picture, not to the window, so that panning changes nothing.
 */
export function clusters(
  layout: Layout,
  siteOf: Map<string, string | null>,
  scale: number,
  apart: ReadonlySet<string>,
): Cluster[] {
  const every = [...layout.devices];
  if (every.length <= SMALL) return every.map(([name, place]) => single(name, place));
  const alone = every.filter(([name]) => apart.has(name)).map(([name, place]) => single(name, place));
  const rest = every.filter(([name]) => !apart.has(name));
  if (layout.sites.length > 0 && scale >= SITE_LEGIBLE)
    return [...alone, ...rest.map(([name, place]) => single(name, place))];
  const middles = new Map(
    layout.sites.map(({ name, box }) => [
      name,
      { x: (box.left + box.right) / 2, y: (box.top + box.bottom) / 2 },
    ]),
  );
  const found = new Map<string, Cluster>();
  for (const [name, place] of rest) {
    const site = siteOf.get(name) ?? null;
    const middle = site === null ? undefined : middles.get(site);
    const key = middle
      ? `site ${site}`
      : `${Math.floor((place.x * scale) / CELL)} ${Math.floor((place.y * scale) / CELL)}`;
    const one = { ...single(name, middle ?? place), sites: middle && site !== null ? [site] : [] };
    const standing = found.get(key);
    if (standing && middle) standing.members.push(name);
    else found.set(key, standing ? joined(standing, one) : one);
  }
  return [...withoutOverlap([...found.values()], scale), ...alone];
}

function joined(one: Cluster, other: Cluster): Cluster {
  const [a, b] = [one.members.length, other.members.length];
  return {
    id: a >= b ? one.id : other.id,
    members: [...one.members, ...other.members],
    sites: [...one.sites, ...other.sites],
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
