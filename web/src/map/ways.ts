import type { MapData, Strand } from "../api/client";

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
