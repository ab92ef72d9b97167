import { expect, test } from "vitest";
import type { Branch, Stop, Strand, Walk } from "../api/client";
import { depths, folded, ladder, mergeOrders, type Row, remarks } from "./ladder";

function stop(device: string, ...targets: number[]): Stop {
  const branches = targets.map((target) => ({ target, verdict: null }) as unknown as Branch);
  return { device, kind: "router", site: null, branches } as unknown as Stop;
}

function strand(...stops: Stop[]): Strand {
  return { stops, starts: [0] } as unknown as Strand;
}

const DIAMOND = strand(stop("a", 1), stop("b", 2, 3), stop("c", 4), stop("d", 4), stop("e"));

test("a stop stands as far down as its longest way", () => {
  expect(depths(DIAMOND)).toEqual([0, 1, 2, 2, 3]);
});

test("equal-cost branches take columns of their own and join again in the first", () => {
  const { rows, lanes } = ladder(DIAMOND, null);
  expect(rows.map((row) => row.device)).toEqual(["a", "b", "c", "d", "e"]);
  const columns = [...lanes.forward.nodes.values()].map((node) => node.column);
  expect(columns).toEqual([0, 0, 0, 1, 0]);
  expect(lanes.forward.columns).toBe(2);
});

test("the return strand shares the rows it can, reversed", () => {
  const back = strand(stop("e", 1), stop("x", 2), stop("b", 3), stop("a"));
  expect(ladder(DIAMOND, back).rows.map((row) => row.device)).toEqual(["a", "b", "c", "d", "x", "e"]);
});

test("merging keeps every device once, and the first order whole", () => {
  const orders: [string[], string[]][] = [
    [
      ["a", "b", "c"],
      ["a", "c"],
    ],
    [
      ["a", "b"],
      ["c", "d"],
    ],
    [
      ["a", "b", "c"],
      ["c", "b", "a"],
    ],
    [
      ["a", "x", "b"],
      ["a", "y", "b"],
    ],
    [[], ["a"]],
  ];
  for (const [one, other] of orders) {
    const merged = mergeOrders(one, other);
    expect(new Set(merged)).toEqual(new Set([...one, ...other]));
    expect(merged.length).toBe(new Set(merged).size);
    expect(merged.filter((device) => one.includes(device))).toEqual(one);
  }
});

test("a loop ends where it comes back", () => {
  const looping = strand(stop("a", 1), stop("b", 2), stop("c"));
  looping.stops[2]?.branches.push({ target: 1, verdict: "loops" } as unknown as Branch);
  expect(depths(looping)).toEqual([0, 1, 2]);
  expect(ladder(looping, null).lanes.forward.edges).toHaveLength(3);
});

const CHECK = { kind: "route", state: "pass" };
const PLAIN = {
  verdict: null,
  vrf: "default",
  by_default: false,
  narrower: false,
  checks: [CHECK],
  branches: [{ checks: [] }],
};

function long(count: number, ...remarkable: number[]): { rows: Row[]; walk: Walk } {
  const stops = Array.from({ length: count }, (_, at) =>
    remarkable.includes(at) ? { ...PLAIN, narrower: true } : PLAIN,
  );
  const rows = stops.map((_, at) => ({
    device: `r${at}`,
    kind: "router",
    site: null,
    stops: { forward: [at], return: [] },
  }));
  return { rows, walk: { forward: { stops }, return: null } as unknown as Walk };
}

function lengths({ rows, walk }: { rows: Row[]; walk: Walk }, ...unfolded: string[]): number[] {
  return folded(rows, walk, new Set(unfolded)).map((run) => run.length);
}

test("a long answer folds what only passes on, between its ends and what is remarkable", () => {
  expect(lengths(long(12))).toEqual(new Array(12).fill(1));
  expect(lengths(long(14))).toEqual([1, 12, 1]);
  expect(lengths(long(14, 6))).toEqual([1, 5, 1, 6, 1]);
  expect(lengths(long(14, 3, 8))).toEqual([1, 1, 1, 1, 4, 1, 4, 1]);
  expect(lengths(long(14, 6), "r3")).toEqual([1, 1, 1, 1, 1, 1, 1, 6, 1]);
});

test("an instance of its own, fewer ways and no way back are worth a word", () => {
  const back = { kind: "back", state: "fail" };
  const stop = { ...PLAIN, vrf: "blue", narrower: true, checks: [CHECK, back] } as unknown as Stop;
  expect(remarks(stop)).toEqual(["VRF blue", "fewer ways than its sibling", "no way back"]);
  expect(remarks(PLAIN as unknown as Stop)).toEqual([]);
});
