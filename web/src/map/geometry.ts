export type Point = { x: number; y: number };
export type Box = { left: number; top: number; right: number; bottom: number };
/** Where a site's devices stand. */
export type SitePlace = { name: string; label: string; box: Box };
export type Layout = { devices: Map<string, Point>; sites: SitePlace[] };

/** The smallest box around some points. */
export function boxAround(points: Iterable<Point>): Box {
  const box = { left: Infinity, top: Infinity, right: -Infinity, bottom: -Infinity };
  for (const { x, y } of points) {
    box.left = Math.min(box.left, x);
    box.right = Math.max(box.right, x);
    box.top = Math.min(box.top, y);
    box.bottom = Math.max(box.bottom, y);
  }
  return box;
}
