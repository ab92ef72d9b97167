import { expect, test } from "vitest";
import type { MapData } from "../api/client";
import { clusters } from "./clusters";
import { draw } from "./drawing";
import { overlap, placeLabels } from "./labels";
import { layOut, withMoves } from "./layout";
import { wayAlong } from "./ways";

function network(count: number): MapData {
  const devices = Array.from({ length: count }, (_, i) => ({
    name: `r${i}`,
    kind: "router",
    site: i % 2 ? "east" : null,
  }));
  const cables = devices.slice(1).map((device, i) => ({
    link: i,
    name: "",
    up: true,
    ends: [
      { device: `r${i}`, interface: "e2" },
      { device: device.name, interface: "e1" },
    ],
  }));
  return {
    name: "n",
    taken_at: null,
    sites: [{ name: "east", label: "East", x: 0.9, y: 0.5 }],
    devices,
    cables,
  };
}

test("the same network is laid out the same way each time", () => {
  const map = network(40);
  expect([...layOut(map).devices]).toEqual([...layOut(map).devices]);
});

test("a site's devices stand nearer to it than the others", () => {
  const { devices, sites } = layOut(network(40));
  const { left = 0, right = 0, top = 0, bottom = 0 } = sites[0]?.box ?? {};
  const far = (name: string) =>
    Math.hypot(
      (devices.get(name)?.x ?? 0) - (left + right) / 2,
      (devices.get(name)?.y ?? 0) - (top + bottom) / 2,
    );
  const mean = (odd: number) =>
    [...Array(20).keys()].reduce((sum, i) => sum + far(`r${2 * i + odd}`), 0) / 20;
  expect(mean(1)).toBeLessThan(mean(0));
});

const everySite = (map: MapData) => new Map(map.devices.map((device) => [device.name, device.site]));

test("every device is in one cluster, and fewer clusters stand at a smaller scale", () => {
  const map = network(200);
  const layout = layOut(map);
  const small = clusters(layout, everySite(map), 0.2, new Set(["r7"]));
  const large = clusters(layout, everySite(map), 4, new Set());
  for (const made of [small, large])
    expect(made.flatMap((one) => one.members).sort()).toEqual([...layout.devices.keys()].sort());
  expect(small.length).toBeLessThan(large.length);
  expect(small.find((one) => one.members.includes("r7"))?.members).toEqual(["r7"]);
  expect(small.find((one) => one.sites.includes("east"))?.members.length).toBeGreaterThanOrEqual(99);
});

test("a cluster opens in place: its devices stand apart around it, what lies under them is not drawn", () => {
  const map = network(200);
  const everything = { left: -1e6, top: -1e6, right: 1e6, bottom: 1e6 };
  const wanted = {
    map,
    layout: layOut(map),
    scale: 0.1,
    touched: new Set<string>(),
    endings: new Map(),
    chosen: null,
    opened: null as string | null,
    visible: everything,
    edge: null,
  };
  const closed = draw(wanted);
  const open = draw({ ...wanted, opened: "r1" });
  const single = open.marks.filter((mark) => mark.cluster.members.length === 1);
  expect(closed.opened).toBeNull();
  expect(single.length).toBeGreaterThanOrEqual(99);
  const { left = 0, right = 0, top = 0, bottom = 0 } = open.opened ?? {};
  for (const mark of single) {
    expect(mark.x > left && mark.x < right && mark.y > top && mark.y < bottom).toBe(true);
    for (const other of single)
      if (mark !== other) expect(Math.hypot(mark.x - other.x, mark.y - other.y)).toBeGreaterThan(16);
  }
});

test("parallel cables run side by side, and a step takes the one it uses", () => {
  const map = network(2);
  map.cables.push({ ...(map.cables[0] as MapData["cables"][number]), link: 7 });
  const everything = { left: -1e6, top: -1e6, right: 1e6, bottom: 1e6 };
  const drawing = draw({
    map,
    layout: layOut(map),
    scale: 1,
    touched: new Set(),
    endings: new Map(),
    chosen: null,
    opened: null,
    visible: everything,
    edge: null,
  });
  expect(drawing.lines.length).toBe(2);
  for (const [at, link] of [0, 7].entries()) {
    const { from, to } = drawing.lines[at] ?? {};
    for (const [way, back] of [
      ["r0", "r1"],
      ["r1", "r0"],
    ] as const) {
      const run = drawing.run(way, back, link);
      expect(way === "r0" ? run : [...run].reverse()).toEqual([from, to]);
    }
  }
});

test("what was moved by hand stands so far from its computed place", () => {
  const layout = layOut(network(4));
  const moved = withMoves(layout, { r1: [10, -5], gone: [1, 1] });
  const { x = 0, y = 0 } = layout.devices.get("r1") ?? {};
  expect(moved.devices.get("r1")).toEqual({ x: x + 10, y: y - 5 });
  expect(moved.devices.get("r2")).toEqual(layout.devices.get("r2"));
});

test("no two sites lie on each other, wherever the network puts them", () => {
  const map = network(0);
  const spots = Array.from({ length: 24 }, (_, at) => ({ x: ((at * 7) % 5) / 40, y: (at % 3) / 60 }));
  map.sites = spots.map(({ x, y }, at) => ({ name: `s${at}`, label: `s${at}`, x, y }));
  map.devices = spots.flatMap((_, at) =>
    Array.from({ length: 1 + (at % 9) }, (_, one) => ({
      name: `s${at}-${one}`,
      kind: "router" as const,
      site: `s${at}`,
    })),
  );
  const { sites } = layOut(map);
  for (const a of sites) for (const b of sites) if (a !== b) expect(overlap(a.box, b.box)).toBe(false);
});

test("no two labels overlap, and the first in rank is never left out", () => {
  const labels = Array.from({ length: 60 }, (_, i) => ({
    id: `${i}`,
    x: (i * 37) % 200,
    y: (i * 53) % 150,
    width: 60,
    height: 14,
    rank: i,
    away: 10,
  }));
  const placed = placeLabels(labels, []);
  expect(placed.some((one) => one.id === "0")).toBe(true);
  for (const a of placed)
    for (const b of placed)
      if (a !== b) expect(Math.abs(a.x - b.x) >= 60 || Math.abs(a.y - b.y) >= 14).toBe(true);
});

test("a way between two devices follows the segment's cables through its switches", () => {
  const cable = (link: number, ...names: string[]) => ({
    link,
    name: "",
    up: true,
    ends: names.map((device) => ({ device, interface: "e" })),
  });
  const cables = [cable(0, "a", "s1"), cable(1, "s1", "s2"), cable(2, "s2", "b"), cable(3, "a", "b")];
  const byLink = new Map(cables.map((one) => [one.link, one]));
  const way = (links: number[]) =>
    wayAlong(byLink, links, "a", "b").map(({ from, to, link }) => [from, to, link]);
  expect(way([0, 1, 2])).toEqual([
    ["a", "s1", 0],
    ["s1", "s2", 1],
    ["s2", "b", 2],
  ]);
  expect(way([3])).toEqual([["a", "b", 3]]);
  expect(way([])).toEqual([["a", "b", null]]);
});
