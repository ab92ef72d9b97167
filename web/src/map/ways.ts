import type { Forest, MapData, Strand, Walk } from "../api/client";
import type { Verdict } from "../ui/marks";

type Cable = MapData["cables"][number];
/** A step of a way over the map, from a device to the next along a cable, where it is known which. */
export type Step = { from: string; to: string; link: number | null };
export type CablesByLink = ReadonlyMap<number, Cable>;

export function cablesByLink(map: MapData): CablesByLink {
  return new Map(map.cables.flatMap((cable) => (cable.link === null ? [] : [[cable.link, cable] as const])));
}

/** The steps from one device to another along the cables of a segment, through its switches. */
export function wayAlong(cables: CablesByLink, links: number[], from: string, to: string): Step[] {
  const next = new Map<string, Step[]>();
  for (const link of new Set(links)) {
    const names = (cables.get(link)?.ends ?? []).map((end) => end.device);
    for (const name of names)
      next.set(name, [
        ...(next.get(name) ?? []),
        ...names.filter((other) => other !== name).map((other) => ({ from: name, to: other, link })),
      ]);
  }
  const cameBy = new Map<string, Step | null>([[from, null]]);
  const queue = [from];
  for (let name = queue.shift(); name !== undefined && name !== to; name = queue.shift())
    for (const step of next.get(name) ?? [])
      if (!cameBy.has(step.to)) {
        cameBy.set(step.to, step);
        queue.push(step.to);
      }
  if (!cameBy.has(to)) return [{ from, to, link: null }];
  const way: Step[] = [];
  for (let step = cameBy.get(to); step; step = cameBy.get(step.from)) way.unshift(step);
  return way;
}

/** Steps, each once. */
class Steps {
  private readonly found = new Map<string, Step>();

  add(way: Step[]) {
    for (const step of way) this.found.set(`${step.from}\n${step.to}\n${step.link}`, step);
  }

  all(): Step[] {
    return [...this.found.values()];
  }
}

/** The steps of a strand over the map, switches included. */
export function strandSteps(strand: Strand, cables: CablesByLink): Step[] {
  const steps = new Steps();
  for (const stop of strand.stops)
    for (const branch of stop.branches) {
      const next = branch.target === null ? undefined : strand.stops[branch.target]?.device;
      if (next) steps.add(wayAlong(cables, branch.links, stop.device, next));
    }
  return steps.all();
}

/** What is drawn over the network: ways as steps between devices, and how they end where. */
export type Traces = {
  forward: Step[];
  back: Step[];
  /** Where a trial moves them: the ways as they are without it. */
  former?: Step[];
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
export function walkTraces(walk: Walk, cables: CablesByLink, before?: Walk): Traces {
  const forward = strandSteps(walk.forward, cables);
  const back = walk.return ? strandSteps(walk.return, cables) : [];
  const stops = [...walk.forward.stops, ...(walk.return?.stops ?? [])];
  const endings = new Map<string, Verdict>();
  for (const stop of stops)
    for (const verdict of [stop.verdict, ...stop.branches.map((branch) => branch.verdict)])
      if (verdict) note(endings, stop.device, verdict);
  const gone = before ? [before.forward, ...(before.return ? [before.return] : [])] : [];
  const former = gone.flatMap((strand) => strandSteps(strand, cables));
  const touched = new Set([
    ...stops.map((stop) => stop.device),
    ...[...forward, ...back, ...former].flatMap((step) => [step.from, step.to]),
  ]);
  return { forward, back, former, endings, touched };
}

/** Every device's way to its next devices: all groups, or the one that is looked at. */
export function forestTraces(forest: Forest, cables: CablesByLink, group: number | null): Traces {
  const steps = new Steps();
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
      for (const step of row.steps) steps.add(wayAlong(cables, step.links, row.device, step.device));
    }
  }
  for (const device of endings.keys()) touched.add(device);
  return { forward: steps.all(), back: [], endings, touched };
}
