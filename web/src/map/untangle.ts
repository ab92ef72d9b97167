import type { Point } from "./geometry";

/** Larger networks are drawn as clusters first, where it would not be seen. */
const MOST_CABLES = 160;
const ROUNDS = 6;
/** Devices of a column that stand farther apart are not tried. */
const REACH = 4;
/** A device on a cable that is not its own is worse than two cables that cross. */
const ON_CABLE = 2;
const NEAR = 12;

type Places = Map<string, Point>;
type Cable = readonly [string, string];

/**
 * Swap devices of a column, and turn whole sites upside down, as long as fewer cables cross and fewer devices lie on
 * cables of others. `columns` are by site; `places` are changed.
 */
export function untangle(places: Places, sites: string[][][], cables: Cable[]) {
  if (cables.length > MOST_CABLES) return;
  const cost = new Tangle(places, cables);
  for (let round = 0, better = true; better && round < ROUNDS; round++) {
    better = false;
    for (const columns of sites) {
      const members = columns.flat();
      for (const column of columns)
        for (const [at, one] of column.entries())
          for (const other of column.slice(at + 1, at + 1 + REACH))
            better = keepIfBetter([one, other], () => swap(places, one, other)) || better;
      better = keepIfBetter(members, () => turnOver(places, members)) || better;
    }
  }
  function keepIfBetter(moved: string[], change: () => void): boolean {
    const before = cost.of(moved);
    change();
    if (cost.of(moved) < before) return true;
    change();
    return false;
  }
}

function swap(places: Places, one: string, other: string) {
  const [a, b] = [places.get(one) as Point, places.get(other) as Point];
  places.set(one, b);
  places.set(other, a);
}

function turnOver(places: Places, members: string[]) {
  const ys = members.map((name) => places.get(name)?.y ?? 0);
  const sum = Math.min(...ys) + Math.max(...ys);
  for (const name of members) {
    const { x, y } = places.get(name) as Point;
    places.set(name, { x, y: sum - y });
  }
}

/** How tangled cables are around some devices. */
class Tangle {
  private readonly cablesOf = new Map<string, Cable[]>();

  constructor(
    private readonly places: Places,
    private readonly cables: Cable[],
  ) {
    for (const cable of cables)
      for (const end of cable) this.cablesOf.set(end, [...(this.cablesOf.get(end) ?? []), cable]);
  }

  of(names: string[]): number {
    const own = new Set(names.flatMap((name) => this.cablesOf.get(name) ?? []));
    let found = 0;
    for (const cable of own) {
      // Between two of its own each crossing is met twice.
      for (const other of this.cables) if (this.cross(cable, other)) found += own.has(other) ? 0.5 : 1;
      for (const name of this.places.keys()) found += this.lies(name, cable) ? ON_CABLE : 0;
    }
    for (const name of names)
      for (const cable of this.cables) if (!own.has(cable)) found += this.lies(name, cable) ? ON_CABLE : 0;
    return found;
  }

  private line([one, other]: Cable): [Point, Point] {
    return [this.places.get(one) as Point, this.places.get(other) as Point];
  }

  private cross(one: Cable, other: Cable): boolean {
    if (one.some((end) => other.includes(end))) return false;
    const [a, b] = this.line(one);
    const [c, d] = this.line(other);
    return side(a, b, c) * side(a, b, d) < 0 && side(c, d, a) * side(c, d, b) < 0;
  }

  private lies(name: string, cable: Cable): boolean {
    if (cable.includes(name)) return false;
    const at = this.places.get(name) as Point;
    const [a, b] = this.line(cable);
    const [x, y] = [b.x - a.x, b.y - a.y];
    const along = ((at.x - a.x) * x + (at.y - a.y) * y) / (x * x + y * y || 1);
    return along > 0 && along < 1 && Math.hypot(at.x - a.x - along * x, at.y - a.y - along * y) < NEAR;
  }
}

function side(a: Point, b: Point, at: Point): number {
  return (b.x - a.x) * (at.y - a.y) - (b.y - a.y) * (at.x - a.x);
}
