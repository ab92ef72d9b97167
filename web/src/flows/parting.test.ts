import { expect, test } from "vitest";
import type { Branch, Stop, Strand } from "../api/client";
import { besidesOf, besideText, parseBeside, withBesides } from "./besides";
import { partingOf } from "./parting";

/** A strand along devices; the last is where it ends. */
function strand(devices: string[], verdict: Strand["verdict"] = "arrives"): Strand {
  const stops = devices.map((device, at) => {
    const target = at + 1 < devices.length ? at + 1 : null;
    const branches = target === null ? [] : [{ interface: `e${at}`, target, verdict: null } as Branch];
    return { device, branches, verdict: target === null ? verdict : null } as Stop;
  });
  return { verdict, stops, starts: [0] } as unknown as Strand;
}

test("strands part at the first device that all meet and do not all go on from alike", () => {
  const found = partingOf([strand(["a", "b", "c", "d"]), strand(["a", "b", "x", "d"])]);
  expect(found).toEqual({ kind: "part", device: "b", ways: ["on to c by e1", "on to x by e1"] });
});

test("one that ends where the other goes on parts there", () => {
  const found = partingOf([strand(["a", "b", "c"]), strand(["a", "b"], "blocked")]);
  expect(found).toMatchObject({ kind: "part", device: "b" });
  expect(found.kind === "part" && found.ways[1]).toContain("blocked");
});

test("from different sources they go the same way from where they meet, or never meet", () => {
  const met = partingOf([strand(["a", "m", "z"]), strand(["n", "m", "z"])]);
  expect(met).toEqual({ kind: "same", from: "m" });
  const one = strand(["a", "m", "z"]);
  expect(partingOf([one, { ...one }, one])).toEqual({ kind: "same", from: "a" });
  expect(partingOf([strand(["a", "b"]), strand(["x", "y"])])).toEqual({ kind: "apart" });
});

test("an address holds flows side by side, each of its own revision", () => {
  const one = parseBeside("a > b tcp/443 by r:e1@3");
  const other = parseBeside("a > b");
  if (typeof one === "string" || typeof other === "string") throw new Error("not read");
  expect(one).toEqual({ question: { from: "a", to: "b", service: "tcp/443", enter: "r:e1" }, revision: 3 });
  expect(parseBeside("nonsense")).toMatch(/from > to/);
  const search = withBesides(new URLSearchParams("revision=2&at=x"), [one, other]);
  expect(besidesOf(search).map(besideText)).toEqual(["a > b tcp/443 by r:e1@3", "a > b icmp"]);
  expect(search.get("revision")).toBe("2");
});
