import type { Stop, Strand } from "../api/client";
import { VERDICT_WORDS } from "../ui/marks";
import { deviceOrder } from "./ladder";

/** Where strands part: at a device that all of them meet, with what each does there. */
export type Parting =
  | { kind: "part"; device: string; ways: string[] }
  | { kind: "same"; from: string }
  | { kind: "apart" };

/** The first device that all strands meet and at which they do not do the same. */
export function partingOf(strands: Strand[]): Parting {
  const [first, ...others] = strands;
  if (!first) return { kind: "apart" };
  const met = others.map((strand) => new Set(strand.stops.map((stop) => stop.device)));
  const common = deviceOrder(first).filter((device) => met.every((devices) => devices.has(device)));
  for (const device of common) {
    const ways = strands.map((strand) => wayOn(strand, device));
    if (new Set(ways).size > 1) return { kind: "part", device, ways };
  }
  return common[0] === undefined ? { kind: "apart" } : { kind: "same", from: common[0] };
}

/** What a strand does at a device: where it goes on to, by which interfaces, or how it ends. */
export function wayOn(strand: Strand, device: string): string {
  const stops = strand.stops.filter((stop) => stop.device === device);
  return [...new Set(stops.flatMap((stop) => waysOf(strand, stop)))].sort().join("; ");
}

function waysOf(strand: Strand, stop: Stop): string[] {
  const on = stop.branches.map((branch) => {
    const next = branch.target === null ? undefined : strand.stops[branch.target]?.device;
    if (next && !branch.verdict) return `on to ${next} by ${branch.interface}`;
    return `${VERDICT_WORDS[branch.verdict ?? strand.verdict]} out of ${branch.interface}`;
  });
  return stop.verdict ? [VERDICT_WORDS[stop.verdict], ...on] : on;
}
