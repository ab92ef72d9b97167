import { expect, test } from "vitest";
import type { Forest, MapData } from "../api/client";
import { cablesByLink, forestTraces } from "./ways";

const cables = cablesByLink({
  cables: [
    {
      link: 0,
      name: "",
      up: true,
      ends: [
        { device: "a", interface: "e1" },
        { device: "sw", interface: "p1" },
      ],
    },
    {
      link: 1,
      name: "",
      up: true,
      ends: [
        { device: "sw", interface: "p2" },
        { device: "b", interface: "e1" },
      ],
    },
  ],
} as unknown as MapData);

const forest = {
  asked: "10.0.0.0/8",
  rows: [
    {
      device: "a",
      vrf: "default",
      route: null,
      steps: [{ device: "b", interface: "e1", links: [0, 1] }],
      by_default: false,
    },
    { device: "b", vrf: "default", route: null, steps: [], by_default: false },
    { device: "c", vrf: "default", route: null, steps: [], by_default: false },
  ],
  groups: [
    {
      label: "to b:e2",
      by_default: false,
      exits: [{ how: "delivered", device: "b", interface: "e2" }],
      rows: [0, 1],
    },
    {
      label: "no route",
      by_default: false,
      exits: [{ how: "unrouted", device: "c", interface: null }],
      rows: [2],
    },
    {
      label: "in a VRF",
      by_default: false,
      exits: [{ how: "unrouted", device: "a (VRF red)", interface: null }],
      rows: [],
    },
  ],
} as Forest;

test("a step is drawn through the switches between two devices", () => {
  const traces = forestTraces(forest, cables, null);
  expect(traces.forward).toEqual([
    { from: "a", to: "sw", link: 0 },
    { from: "sw", to: "b", link: 1 },
  ]);
  expect(traces.endings.get("b")).toBe("arrives");
  expect(traces.endings.get("c")).toBe("unrouted");
});

test("a VRF's ending is not marked on its device unless it is looked at", () => {
  expect(forestTraces(forest, cables, null).endings.has("a")).toBe(false);
  expect(forestTraces(forest, cables, 2).endings.get("a")).toBe("unrouted");
});

test("one group alone touches its own devices", () => {
  expect([...forestTraces(forest, cables, 1).touched]).toEqual(["c"]);
});
