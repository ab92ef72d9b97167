import { describe, expect, it } from "vitest";
import type { StripsHeld } from "../api/history";
import { changedSince, millisecond, momentOf, reigns, trueAt } from "./moments";
import {
  around,
  joined,
  letter,
  partsOf,
  segmentAt,
  stepped,
  ticks,
  wholeOf,
  windowOf,
  windowText,
} from "./strip";

const at = (hour: number) => new Date(Date.UTC(2026, 10, 20, hour)).toISOString();
const ms = (hour: number) => Date.UTC(2026, 10, 20, hour);
const revision = (number: number, taken: string | null, created = at(20)) =>
  ({ number, taken_at: taken, created_at: created }) as never;

describe("revisions by time", () => {
  const known = [revision(3, null, at(12)), revision(2, at(9)), revision(1, at(6))];
  it("each stands from when it was true to the next, the first reaches back", () => {
    expect(reigns(known).map((one) => [one.number, one.from, one.until])).toEqual([
      [1, Number.NEGATIVE_INFINITY, ms(9)],
      [2, ms(9), ms(12)],
      [3, ms(12), Number.POSITIVE_INFINITY],
    ]);
    expect(
      [0, 6, 8.9, 9, 30].map((hour) => trueAt(known, new Date(ms(0) + hour * 3_600_000).toISOString())),
    ).toEqual([1, 1, 1, 2, 3]);
  });
  it("what happened after the newest is told of it alone, asked as it is", () => {
    const network = { latest: revision(3, at(9)), events_until: at(11) };
    expect(changedSince(network, { number: 3 })).toBe(at(11));
    expect(changedSince(network, { number: 2 })).toBeUndefined();
    expect(changedSince(network, { number: 3, moment: at(10) })).toBeUndefined();
    expect(changedSince({ ...network, events_until: at(9) }, { number: 3 })).toBeUndefined();
    expect(changedSince({ ...network, events_until: null }, { number: 3 })).toBeUndefined();
  });
  it("a window is cut by them", () => {
    expect(partsOf({ from: ms(8), to: ms(13) }, known)).toEqual([
      { number: 1, start: at(8), end: at(9) },
      { number: 2, start: at(9), end: at(12) },
      { number: 3, start: at(12), end: at(13) },
    ]);
  });
  it("or told whole by the last that stands for some of it", () => {
    const last = { number: 3, start: at(8), end: at(13) };
    expect(wholeOf({ from: ms(8), to: ms(13) }, known)).toEqual(last);
    expect(wholeOf({ from: ms(8), to: ms(9) }, known)).toEqual({ number: 1, start: at(8), end: at(9) });
    expect(wholeOf({ from: ms(8), to: ms(8) }, known)).toBeUndefined();
  });
  it("a moment finer than a millisecond has come in the next one", () => {
    const fine = ["2026-11-20T06:00:00Z", "2026-11-20T06:00:00.250Z", "2026-11-20T06:00:00.250001Z"];
    expect(fine.map((one) => millisecond(one) - ms(6))).toEqual([0, 250, 251]);
  });
  it("a moment that is none is none", () => {
    expect([momentOf(null), momentOf("soon"), momentOf("2026-11-20T06:00:00Z")]).toEqual([
      undefined,
      undefined,
      at(6),
    ]);
  });
});

describe("windows", () => {
  const all = { from: ms(0), to: ms(24) };
  it("an address that holds none means all that is known", () => {
    expect(windowOf("nonsense", all)).toEqual(all);
    expect(windowOf(windowText({ from: ms(1), to: ms(2) }), all)).toEqual({ from: ms(1), to: ms(2) });
    expect(windowOf(`${at(3)}..${at(2)}`, all)).toEqual(all);
  });
  it("lies around a moment, and within what is known", () => {
    expect(around(ms(12), 3_600_000 * 2, all)).toEqual({ from: ms(11), to: ms(13) });
    expect(around(ms(24), 3_600_000 * 2, all)).toEqual({ from: ms(22), to: ms(24) });
    expect(around(ms(0), 3_600_000 * 2, all)).toEqual({ from: ms(0), to: ms(2) });
    expect(around(ms(12), 3_600_000 * 48, all).to).toEqual(ms(24));
  });
  it("is named at round moments", () => {
    expect(ticks(all, 8)).toEqual([0, 3, 6, 9, 12, 15, 18, 21, 24].slice(0, 9).map(ms));
    expect(ticks({ from: ms(1) + 60_000, to: ms(2) }, 4).map((one) => new Date(one).getUTCMinutes())).toEqual(
      [15, 30, 45, 0],
    );
  });
});

describe("a strip of parts", () => {
  const way = (...devices: string[]) => ({ paths: [devices], path_count: 1, exits: [] });
  const state = (good: boolean, to: number | null) =>
    ({
      forward: good ? "arrives" : "unrouted",
      reply: null,
      good,
      way: to,
      way_back: null,
      words: "w",
    }) as never;
  const part = (hours: [number, number, number][], ways: ReturnType<typeof way>[]): StripsHeld =>
    ({
      start: at(0),
      end: at(24),
      events: [{ number: 7, words: "link x down" }],
      things: [],
      strips: [
        {
          flow: {},
          story: ["told"],
          usual: 0,
          usual_back: null,
          ways,
          states: ways.map((_, number) => state(true, number)),
          segments: hours.map(([from, to, number]) => ({
            start: at(from),
            end: at(to),
            state: number,
            unknown: "",
            because: [7],
            fell_back: [],
          })),
        },
      ],
    }) as never;
  const strip = joined([
    part([[0, 1, 0]], [way("a", "b")]),
    undefined,
    part(
      [
        [1, 2, 0],
        [2, 9, 1],
      ],
      [way("a", "b"), way("a", "c", "b")],
    ),
  ]);
  it("numbers ways over all parts by how long they lasted", () => {
    expect(strip.ways.forward.map((one) => one.paths[0]?.join("-"))).toEqual(["a-c-b", "a-b"]);
    expect(strip.segments.map((one) => one.way === strip.ways.forward[1]?.key)).toEqual([true, true, false]);
    expect(strip.segments[0]?.because).toEqual(["link x down"]);
    expect([letter(0), letter(25), letter(26)]).toEqual(["A", "Z", "AA"]);
  });
  it("tells ways over the same devices by other cables apart", () => {
    const twice = joined([
      part(
        [
          [0, 1, 0],
          [1, 2, 1],
        ],
        [way("a", "b"), way("a", "b")],
      ),
    ]);
    expect(twice.ways.forward.length).toBe(2);
    expect(twice.segments[0]?.way).not.toBe(twice.segments[1]?.way);
  });
  it("finds the segment of a moment, and steps", () => {
    expect(segmentAt(strip.segments, ms(2))?.from).toBe(ms(2));
    expect(segmentAt(strip.segments, ms(99))?.from).toBe(ms(2));
    const begins = strip.segments.map((one) => one.from);
    expect([
      stepped(begins, ms(1), true),
      stepped(begins, ms(1), false),
      stepped(begins, ms(2), true),
    ]).toEqual([ms(2), ms(0), undefined]);
  });
});
