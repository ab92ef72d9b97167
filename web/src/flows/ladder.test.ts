import { expect, test } from "vitest";
import type { Branch, Stop, Strand } from "../api/client";
import { depths, ladder, mergeOrders } from "./ladder";

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
