import type { Forest, MapData, Strand, Walk } from "../api/client";
import type { Verdict } from "../ui/marks";

type Cables = MapData["cables"];

/** The devices from one to another along the cables of a segment, through its switches. */
export function wayAlong(cables: Cables, links: number[], from: string, to: string): string[] {
  const wanted = new Set(links);
  const neighbours = new Map<string, string[]>();
  for (const cable of cables) {
    if (cable.link === null || !wanted.has(cable.link)) continue;
    const names = cable.ends.map((end) => end.device);
    for (const name of names)
      neighbours.set(name, [...(neighbours.get(name) ?? []), ...names.filter((other) => other !== name)]);
  }
  const cameFrom = new Map<string, string | null>([[from, null]]);
  const queue = [from];
  for (let name = queue.shift(); name !== undefined; name = queue.shift()) {
    if (name === to) break;
    for (const next of neighbours.get(name) ?? []) {
      if (!cameFrom.has(next)) {
        cameFrom.set(next, name);
        queue.push(next);
      }
    }
  }
  if (!cameFrom.has(to)) return [from, to];
  const way: string[] = [];
  for (let name: string | null | undefined = to; name; name = cameFrom.get(name)) way.unshift(name);
  return way;
}

/** The steps of a strand over the map, each once: pairs of neighbouring devices, switches included. */
export function strandSteps(strand: Strand, cables: Cables): [string, string][] {
  const steps = new Map<string, [string, string]>();
  for (const stop of strand.stops) {
    for (const branch of stop.branches) {
      const next = branch.target === null ? undefined : strand.stops[branch.target]?.device;
      if (!next) continue;
      const way = wayAlong(cables, branch.links, stop.device, next);
      for (let i = 1; i < way.length; i++) {
        const step: [string, string] = [way[i - 1] as string, way[i] as string];
        steps.set(step.join("\n"), step);
      }
    }
  }
  return [...steps.values()];
}

/** What is drawn over the network: ways as steps between devices, and how they end where. */
export type Traces = {
  forward: [string, string][];
  back: [string, string][];
  endings: Map<string, Verdict>;
  touched: Set<string>;
};

const WORST_FIRST: Verdict[] = [
  "blocked",
  "unrouted",
  "discarded",
  "unresolved",
  "loops",
  "leaves",
  "arrives",
];

/** Keeps the worst ending of each device. */
function note(endings: Map<string, Verdict>, device: string, verdict: Verdict) {
  const standing = endings.get(device);
  if (!standing || WORST_FIRST.indexOf(verdict) < WORST_FIRST.indexOf(standing)) endings.set(device, verdict);
}

/** Both strands of a walk. */
export function walkTraces(walk: Walk, cables: Cables): Traces {
  const forward = strandSteps(walk.forward, cables);
  const back = walk.return ? strandSteps(walk.return, cables) : [];
  const stops = [...walk.forward.stops, ...(walk.return?.stops ?? [])];
  const endings = new Map<string, Verdict>();
  for (const stop of stops)
    for (const verdict of [stop.verdict, ...stop.branches.map((branch) => branch.verdict)])
      if (verdict) note(endings, stop.device, verdict);
  const touched = new Set([...stops.map((stop) => stop.device), ...forward.flat(), ...back.flat()]);
  return { forward, back, endings, touched };
}

/** Every device's way to its next devices: all groups, or the one that is looked at. */
export function forestTraces(forest: Forest, cables: Cables, group: number | null): Traces {
  const steps = new Map<string, [string, string]>();
  const endings = new Map<string, Verdict>();
  const groups = group === null ? forest.groups : forest.groups.filter((_, index) => index === group);
  const touched = new Set<string>();
  for (const one of groups) {
    // A VRF's ending is not the device's: it is marked only where its group is looked at.
    for (const exit of one.exits.filter((exit) => group !== null || !exit.device.includes(" ")))
      note(endings, exit.device.split(" ")[0] as string, exit.how === "delivered" ? "arrives" : exit.how);
    for (const row of one.rows.map((index) => forest.rows[index])) {
      if (!row) continue;
      touched.add(row.device);
      for (const step of row.steps) {
        const way = wayAlong(cables, step.links, row.device, step.device);
        for (let i = 1; i < way.length; i++) {
          const pair: [string, string] = [way[i - 1] as string, way[i] as string];
          steps.set(pair.join("\n"), pair);
        }
      }
    }
  }
  for (const device of endings.keys()) touched.add(device);
  return { forward: [...steps.values()], back: [], endings, touched };
}
