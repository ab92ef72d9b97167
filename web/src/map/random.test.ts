import { expect, test } from "vitest";
import type { MapData } from "../api/client";
import { answerMap } from "./answerMap";
import { draw } from "./drawing";
import { fitted, seen, stretchFor } from "./fit";
import { overlap } from "./labels";
import { layOut, stretched } from "./layout";

/** Numbers from 0 to below 1, the same for a seed. */
function dice(seed: number) {
  let state = seed * 2654435761 + 1;
  return () => {
    state = (state * 1664525 + 1013904223) % 2 ** 32;
    return state / 2 ** 32;
  };
}

/** Any network that a file may state: sites with and without places, cables of several ends, devices on their own. */
function anyNetwork(seed: number): MapData {
  const roll = dice(seed);
  const pick = (count: number) => Math.floor(roll() * count);
  const sites = Array.from({ length: pick(7) }, (_, at) => {
    const placed = roll() < 0.6;
    const spot = { x: placed ? pick(3) / 2 : null, y: placed ? pick(3) / 2 : null };
    return { name: `s${at}`, label: "a site's name".repeat(1 + pick(3)), ...spot };
  });
  const kinds = ["router", "host", "switch", "firewall"] as const;
  const devices = Array.from({ length: 1 + pick(seed % 5 === 0 ? 150 : 30) }, (_, at) => ({
    name: `${"x".repeat(pick(24))}d${at}`,
    kind: kinds[pick(4)] ?? "router",
    site: sites.length > 0 && roll() < 0.8 ? `s${pick(sites.length)}` : null,
  }));
  const cables = Array.from({ length: pick(2 * devices.length) }, (_, link) => ({
    link: roll() < 0.9 ? link : null,
    name: "",
    up: roll() < 0.9,
    ends: Array.from({ length: 2 + (roll() < 0.1 ? pick(4) : 0) }, () => ({
      device: devices[pick(devices.length)]?.name ?? "",
      interface: "e",
    })),
  }));
  return { name: "n", taken_at: null, sites, devices, cables } as MapData;
}

const SEEDS = Array.from({ length: 80 }, (_, at) => at + 1);

test.each(SEEDS)(
  "network %i is laid out whole: each device in a place of its own, no site on another",
  (seed) => {
    const map = anyNetwork(seed);
    const { devices, sites } = layOut(map);
    expect([...devices.keys()].sort()).toEqual(map.devices.map((one) => one.name).sort());
    const places = [...devices.values()];
    for (const { x, y } of places) expect(Number.isFinite(x) && Number.isFinite(y)).toBe(true);
    expect(new Set(places.map(({ x, y }) => `${x.toFixed(3)} ${y.toFixed(3)}`)).size).toBe(places.length);
    for (const a of sites) for (const b of sites) if (a !== b) expect(overlap(a.box, b.box)).toBe(false);
    expect(layOut(map)).toEqual({ devices, sites });
  },
);

test.each(SEEDS)("network %i is drawn without a label on another or beyond the edge", (seed) => {
  const map = anyNetwork(seed);
  const size = { width: 400 + 10 * seed, height: 700 - 4 * seed };
  const whole = layOut(map);
  const layout = stretched(whole, ...stretchFor(whole, size));
  const view = fitted(layout, size);
  const edge = seen(view, size);
  const picture = draw({
    map,
    layout,
    scale: view.scale,
    touched: new Set(map.devices.slice(0, 3).map((one) => one.name)),
    endings: new Map(),
    chosen: map.devices[0]?.name ?? null,
    opened: seed % 2 ? (map.devices.at(-1)?.name ?? null) : null,
    visible: { left: -1e6, top: -1e6, right: 1e6, bottom: 1e6 },
    edge,
  });
  const boxes = picture.labels.map((label) => {
    const half = label.text.length * (label.site ? 4 : 3.45);
    return { left: label.x - half, right: label.x + half, top: label.y - 7, bottom: label.y + 7 };
  });
  for (const [at, box] of boxes.entries()) {
    expect(box.left >= edge.left && box.right <= edge.right).toBe(true);
    for (const other of boxes.slice(at + 1)) expect(overlap(box, other)).toBe(false);
  }
  for (const line of picture.lines)
    for (const { x, y } of [line.from, line.to]) expect(Number.isFinite(x + y)).toBe(true);
});

test.each(SEEDS)("an answer in network %i has a map of its own", (seed) => {
  const map = anyNetwork(seed);
  const touched = new Set(map.devices.slice(0, 1 + (seed % 9)).map((one) => one.name));
  const names = [...touched];
  const forward = names.slice(1).map((to, at) => ({ from: names[at] ?? "", to, link: null }));
  const own = answerMap(map, { forward, back: [], endings: new Map(), touched }, names[0] ?? "");
  for (const name of touched) expect(own.layout.devices.has(name)).toBe(true);
  const places = [...own.layout.devices.values()].map(({ x, y }) => `${x.toFixed(2)} ${y.toFixed(2)}`);
  expect(new Set(places).size).toBe(places.length);
});
