import type { Branch, Stop, Strand, Walk } from "../api/client";
import type { Direction, Verdict } from "../ui/marks";

/** A stop of a strand in its place: a row of the ladder and a column of its lane (0 is next to the names). */
export type Node = { stop: number; row: number; column: number };

/** A branch drawn from stop to stop; without a target it ends at once, with a verdict. */
export type Edge = { from: number; to: number | null; branch: Branch; verdict: Verdict | null };

export type Lane = { direction: Direction; nodes: Map<number, Node>; edges: Edge[]; columns: number };

export type Row = {
  device: string;
  kind: string;
  site: string | null;
  stops: Record<Direction, number[]>;
};

export type Ladder = {
  rows: Row[];
  lanes: Record<Direction, Lane>;
  /** Of strands that a trial moves: as they are without it, drawn beside those that are. */
  former: Partial<Record<Direction, Lane>>;
};

/** How far each stop is from the start at most, back edges of loops left aside. */
export function depths(strand: Strand): number[] {
  const depth = new Array<number>(strand.stops.length).fill(-1);
  const onWay = new Set<number>();
  function visit(number: number, at: number) {
    if ((depth[number] ?? -1) >= at || onWay.has(number)) return;
    depth[number] = at;
    onWay.add(number);
    for (const branch of strand.stops[number]?.branches ?? []) {
      if (branch.target !== null && branch.verdict !== "loops") visit(branch.target, at + 1);
    }
    onWay.delete(number);
  }
  for (const start of strand.starts) visit(start, 0);
  return depth;
}

/** The devices of a strand in the order of their distance from its start. */
export function deviceOrder(strand: Strand | null): string[] {
  if (!strand) return [];
  const depth = depths(strand);
  const first = new Map<string, number>();
  strand.stops.forEach((stop, number) => {
    const at = depth[number] ?? 0;
    first.set(stop.device, Math.min(first.get(stop.device) ?? at, at));
  });
  return [...first.keys()].sort((a, b) => (first.get(a) ?? 0) - (first.get(b) ?? 0));
}

/** Two orders merged into one: what they share stands once, what only one has stands where that has it. */
export function mergeOrders(one: string[], other: string[]): string[] {
  const inOne = new Set(one);
  const merged: string[] = [];
  const placed = new Set<string>();
  let next = 0;
  for (const device of one) {
    const at = other.indexOf(device, next);
    if (at >= 0) {
      for (const only of other.slice(next, at)) {
        if (!inOne.has(only) && !placed.has(only)) {
          merged.push(only);
          placed.add(only);
        }
      }
      next = at + 1;
    }
    if (!placed.has(device)) {
      merged.push(device);
      placed.add(device);
    }
  }
  for (const only of other) if (!placed.has(only)) merged.push(only);
  return merged;
}

function lane(direction: Direction, strand: Strand | null, rowOf: Map<string, number>): Lane {
  const nodes = new Map<number, Node>();
  const edges: Edge[] = [];
  let columns = 1;
  if (!strand) return { direction, nodes, edges, columns };
  const depth = depths(strand);
  const byDepth: number[][] = [];
  depth.forEach((at, number) => {
    if (at < 0) return;
    byDepth[at] = [...(byDepth[at] ?? []), number];
  });
  const wanted = new Map<number, number>();
  for (const level of byDepth) {
    const taken = new Set<number>();
    for (const number of [...(level ?? [])].sort((a, b) => (wanted.get(a) ?? 0) - (wanted.get(b) ?? 0))) {
      let column = wanted.get(number) ?? 0;
      while (taken.has(column)) column += 1;
      taken.add(column);
      columns = Math.max(columns, column + 1);
      const stop = strand.stops[number] as Stop;
      nodes.set(number, { stop: number, row: rowOf.get(stop.device) ?? 0, column });
      stop.branches.forEach((branch, index) => {
        if (branch.target !== null && !wanted.has(branch.target)) wanted.set(branch.target, column + index);
        edges.push({ from: number, to: branch.target, branch, verdict: branch.verdict });
      });
    }
  }
  return { direction, nodes, edges, columns };
}

/** Both strands over the same rows, so that an asymmetry is seen as a shape. */
export function ladder(forward: Strand, back: Strand | null, before?: Walk): Ladder {
  const former = {
    forward: before && isOtherWay(before.forward, forward) ? before.forward : null,
    return: before?.return && isOtherWay(before.return, back) ? before.return : null,
  };
  const order = mergeOrders(
    mergeOrders(deviceOrder(forward), deviceOrder(former.forward)),
    mergeOrders(deviceOrder(back), deviceOrder(former.return)).reverse(),
  );
  const rowOf = new Map(order.map((device, row) => [device, row]));
  const rows: Row[] = order.map((device) => {
    const stops = {
      forward: numbersOf(forward, device),
      return: numbersOf(back, device),
    };
    const known = [forward, back, former.forward, former.return].flatMap((strand) => strand?.stops ?? []);
    const about = known.find((stop) => stop.device === device) as Stop;
    return { device, kind: about.kind, site: about.site, stops };
  });
  return {
    rows,
    lanes: { forward: lane("forward", forward, rowOf), return: lane("return", back, rowOf) },
    former: {
      ...(former.forward && { forward: lane("forward", former.forward, rowOf) }),
      ...(former.return && { return: lane("return", former.return, rowOf) }),
    },
  };
}

/** Whether a strand goes or ends another way than one before. */
export function isOtherWay(before: Strand, after: Strand | null): boolean {
  const told = (strand: Strand | null) => JSON.stringify([strand?.verdict, strand?.paths]);
  return told(before) !== told(after);
}

function numbersOf(strand: Strand | null, device: string): number[] {
  return (strand?.stops ?? []).flatMap((stop, number) => (stop.device === device ? [number] : []));
}

/** What is worth a word beside what decided: an instance of its own, fewer ways than a sibling, no way back. */
export function remarks(stop: Stop): string[] {
  return [
    ...(stop.vrf === "default" ? [] : [`VRF ${stop.vrf}`]),
    ...(stop.narrower ? ["fewer ways than its sibling"] : []),
    ...(stop.checks.some((check) => check.kind === "back" && check.state === "fail") ? ["no way back"] : []),
  ];
}

const LONG = 12;
const SHORTEST_FOLD = 4;

/** Rows of a ladder as they are shown: one on its own, or several unremarkable ones folded together. */
export function folded(rows: Row[], walk: Walk, unfolded: ReadonlySet<string>): Row[][] {
  if (rows.length <= LONG) return rows.map((row) => [row]);
  const shown: Row[][] = [];
  let run: Row[] = [];
  function close() {
    const together = run.length >= SHORTEST_FOLD && !run.some((row) => unfolded.has(row.device));
    if (together) shown.push(run);
    else shown.push(...run.map((row) => [row]));
    run = [];
  }
  rows.forEach((row, at) => {
    if (at > 0 && at < rows.length - 1 && isPlain(row, walk)) run.push(row);
    else {
      close();
      shown.push([row]);
    }
  });
  close();
  return shown;
}

/** Whether nothing happens at a row but that the packet goes on, by one way. */
function isPlain(row: Row, walk: Walk): boolean {
  const stops = [
    ...row.stops.forward.map((number) => walk.forward.stops[number] as Stop),
    ...row.stops.return.map((number) => walk.return?.stops[number] as Stop),
  ];
  return stops.every(
    (stop) =>
      stop.verdict === null &&
      stop.branches.length === 1 &&
      !stop.by_default &&
      remarks(stop).length === 0 &&
      [...stop.checks, ...stop.branches.flatMap((branch) => branch.checks)].every(
        (check) => check.state === "pass" && ["route", "back", "next_hop"].includes(check.kind),
      ),
  );
}
