import { expect, test } from "vitest";
import type { MapData } from "../api/client";
import { answerMap } from "./answerMap";
import type { Step, Traces } from "./ways";

/** A line of routers, each with some hosts beside it, and a strand along it. */
function along(routers: number, hosts: number): [MapData, Traces] {
  const names = Array.from({ length: routers }, (_, at) => `r${at}`);
  const pairs: [string, string][] = names.slice(1).map((name, at) => [names[at] as string, name]);
  const beside: [string, string][] = names.flatMap((name) =>
    Array.from({ length: hosts }, (_, at): [string, string] => [name, `${name}-h${at}`]),
  );
  const cables = [...pairs, ...beside].map((pair, link) => ({
    link,
    name: "",
    up: true,
    ends: pair.map((device) => ({ device, interface: "e" })),
  }));
  const devices = [...names, ...beside.map(([, host]) => host)].map((name) => ({
    name,
    kind: "router" as const,
    site: null,
  }));
  const forward = pairs.map(([from, to], link): Step => ({ from, to, link }));
  const map = { name: "n", taken_at: null, sites: [], devices, cables } as MapData;
  return [map, { forward, back: [], endings: new Map(), touched: new Set(names) }];
}

test("the answer's own map goes down along the strand, its neighbours beside it", () => {
  const { map, layout, leftOut } = answerMap(...along(4, 2), "r0");
  const at = (name: string) => layout.devices.get(name) ?? { x: 0, y: 0 };
  expect(map.devices.map((device) => device.name).sort()).toEqual([...layout.devices.keys()].sort());
  expect([0, 1, 2, 3].map((one) => at(`r${one}`).x)).toEqual([0, 0, 0, 0]);
  for (const one of [1, 2, 3]) expect(at(`r${one}`).y).toBeGreaterThan(at(`r${one - 1}`).y);
  expect(at("r1-h0").x).toBeLessThan(0);
  expect(at("r1-h1").x).toBeGreaterThan(0);
  expect(leftOut).toBe(0);
});

test("a long answer goes on in a second column, and says how many neighbours it leaves out", () => {
  const { layout, leftOut } = answerMap(...along(14, 5), "r0");
  expect(new Set([...Array(14).keys()].map((one) => layout.devices.get(`r${one}`)?.x)).size).toBe(2);
  expect(new Set([...layout.devices.values()].map(({ x, y }) => `${x} ${y}`)).size).toBe(layout.devices.size);
  expect(leftOut).toBe(14 * 5 - (layout.devices.size - 14));
});

test("what the strand does not lead to is drawn nevertheless", () => {
  const [map, traces] = along(3, 0);
  const apart = { ...traces, touched: new Set([...traces.touched, "r9"]) };
  expect(answerMap(map, apart, "r0").layout.devices.has("r9")).toBe(true);
});
