import type { Part, StripsHeld } from "../api/history";
import type { components } from "../api/schema.gen";
import type { Verdict } from "../ui/marks";
import { millisecond, reigns } from "./moments";

/** A window of time in milliseconds. */
export type Span = { from: number; to: number };

/** A way that a flow took, the same wherever its paths are. */
export type Way = { key: string; paths: string[][]; pathCount: number };

/** A stretch of time in which nothing about a flow changes; no verdict where nobody knows, and why. */
export type Segment = Span & {
  forward: Verdict | null;
  reply: Verdict | null;
  good: boolean;
  way: string;
  wayBack: string;
  words: string;
  unknown: string;
  fellBack: string[];
  because: string[];
};

/** A flow over a window: the ways it took, those that lasted longest first, and its segments. */
export type Strip = {
  segments: Segment[];
  ways: { forward: Way[]; return: Way[] };
  story: string[];
};

const MINUTE = 60_000;
export const WINDOWS = [
  { name: "half an hour", length: 30 * MINUTE },
  { name: "hour", length: 60 * MINUTE },
  { name: "day", length: 24 * 60 * MINUTE },
  { name: "week", length: 7 * 24 * 60 * MINUTE },
] as const;
const SHORTEST = MINUTE;

/** The window of an address: `2026-11-06T06:00:00.000Z..2026-11-20T06:00:00.000Z`. */
export function windowOf(text: string | null, all: Span): Span {
  const [from = Number.NaN, to = Number.NaN] = (text ?? "").split("..").map((one) => Date.parse(one));
  return from < to ? { from, to } : all;
}

export function windowText({ from, to }: Span): string {
  return `${new Date(from).toISOString()}..${new Date(to).toISOString()}`;
}

/** A window of a length around a moment, moved to lie within all that is known where it can. */
export function around(moment: number, length: number, all: Span): Span {
  const wide = Math.max(SHORTEST, length);
  const from = Math.max(Math.min(moment - wide / 2, all.to - wide), Math.min(all.from, all.to - wide));
  return { from, to: from + wide };
}

/** The parts of a window, each of the revision that stands for it. */
export function partsOf(window: Span, revisions: components["schemas"]["Revision"][]): Part[] {
  return reigns(revisions).flatMap(({ number, from, until }) => {
    const start = Math.max(window.from, from);
    const end = Math.min(window.to, until);
    return start < end
      ? [{ number, start: new Date(start).toISOString(), end: new Date(end).toISOString() }]
      : [];
  });
}

/** A whole window, of the revision that stands for its end. */
export function wholeOf(window: Span, revisions: components["schemas"]["Revision"][]): Part | undefined {
  const last = partsOf(window, revisions).at(-1);
  return last && { ...last, start: new Date(window.from).toISOString() };
}

/** What is the same for the same way in another part: its devices and how many paths it has; ways that differ by their
 * cables alone are told apart by their order. */
function keysOf(ways: StripsHeld["strips"][number]["ways"]): string[] {
  const seen = new Map<string, number>();
  return ways.map((way) => {
    const key = JSON.stringify([way.paths, way.path_count]);
    const before = seen.get(key) ?? 0;
    seen.set(key, before + 1);
    return before ? `${key} ${before}` : key;
  });
}

/** One flow's strip out of the parts of a window. */
export function joined(parts: (StripsHeld | undefined)[], row = 0): Strip {
  const segments: Segment[] = [];
  const lasting = { forward: new Map<string, number>(), return: new Map<string, number>() };
  const known = new Map<string, Way>();
  const story: string[] = [];
  for (const part of parts) {
    const strip = part?.strips[row];
    if (!part || !strip) continue;
    const keys = keysOf(strip.ways);
    strip.ways.forEach((way, at) => {
      known.set(keys[at] as string, { key: keys[at] as string, paths: way.paths, pathCount: way.path_count });
    });
    const events = new Map(part.events.map((event) => [event.number, event.words]));
    story.push(...strip.story);
    for (const one of strip.segments) {
      const state = one.state === null ? undefined : strip.states[one.state];
      const segment: Segment = {
        from: millisecond(one.start),
        to: millisecond(one.end),
        forward: state?.forward ?? null,
        reply: state?.reply ?? null,
        good: state?.good ?? false,
        way: state?.way == null ? "" : (keys[state.way] as string),
        wayBack: state?.way_back == null ? "" : (keys[state.way_back] as string),
        words: state?.words ?? "",
        unknown: one.unknown,
        fellBack: one.fell_back,
        because: one.because.flatMap((number) => events.get(number) ?? []),
      };
      segments.push(segment);
      for (const [direction, way] of [
        ["forward", segment.way],
        ["return", segment.wayBack],
      ] as const) {
        const lasts = segment.to - segment.from;
        if (way) lasting[direction].set(way, (lasting[direction].get(way) ?? 0) + lasts);
      }
    }
  }
  const ways = (of: Map<string, number>) =>
    [...of].sort((one, other) => other[1] - one[1]).flatMap(([key]) => known.get(key) ?? []);
  return { segments, ways: { forward: ways(lasting.forward), return: ways(lasting.return) }, story };
}

/** The name of a way by how long it lasted: A for the usual one. */
export function letter(at: number): string {
  return at < 26 ? String.fromCharCode(65 + at) : `${letter(Math.floor(at / 26) - 1)}${letter(at % 26)}`;
}

/** The segment that a moment is in. */
export function segmentAt(segments: Segment[], moment: number): Segment | undefined {
  return segments.find((one) => one.from <= moment && moment < one.to) ?? segments.at(-1);
}

/** The first of some moments behind another, or the last before it. */
export function stepped(moments: number[], moment: number, forward: boolean): number | undefined {
  return forward ? moments.find((one) => one > moment) : moments.findLast((one) => one < moment);
}

const STEPS = [1, 2, 5, 10, 15, 30, 60, 120, 180, 360, 720, 1440, 2880, 7 * 1440, 14 * 1440, 30 * 1440];

/** Moments to be named along a window, at most so many: round ones. */
export function ticks({ from, to }: Span, most: number, offset = 0): number[] {
  const step = (STEPS.find((one) => (to - from) / (one * MINUTE) <= most) ?? 365 * 1440) * MINUTE;
  const first = Math.ceil((from + offset) / step) * step - offset;
  return Array.from(
    { length: Math.max(0, Math.floor((to - first) / step) + 1) },
    (_, at) => first + at * step,
  );
}
