import { expect, test } from "vitest";
import type { MapData } from "../api/client";
import { clusters } from "./clusters";
import { placeLabels } from "./labels";
import { layOut } from "./layout";
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
  const far = (name: string) =>
    Math.hypot(
      (devices.get(name)?.x ?? 0) - (sites[0]?.x ?? 0),
      (devices.get(name)?.y ?? 0) - (sites[0]?.y ?? 0),
    );
  const mean = (odd: number) =>
    [...Array(20).keys()].reduce((sum, i) => sum + far(`r${2 * i + odd}`), 0) / 20;
  expect(mean(1)).toBeLessThan(mean(0));
});

test("every device is in one cluster, and fewer clusters stand at a smaller scale", () => {
  const { devices } = layOut(network(200));
  const small = clusters(devices, 0.2, new Set(["r7"]));
  const large = clusters(devices, 4, new Set());
  for (const made of [small, large])
    expect(made.flatMap((one) => one.members).sort()).toEqual([...devices.keys()].sort());
  expect(small.length).toBeLessThan(large.length);
  expect(small.find((one) => one.members.includes("r7"))?.members).toEqual(["r7"]);
});

test("no two labels overlap, and the first in rank is never left out", () => {
  const labels = Array.from({ length: 60 }, (_, i) => ({
    id: `${i}`,
    x: (i * 37) % 200,
    y: (i * 53) % 150,
    width: 60,
    height: 14,
    rank: i,
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
  expect(wayAlong(cables, [0, 1, 2], "a", "b")).toEqual(["a", "s1", "s2", "b"]);
  expect(wayAlong(cables, [3], "a", "b")).toEqual(["a", "b"]);
  expect(wayAlong(cables, [], "a", "b")).toEqual(["a", "b"]);
});
