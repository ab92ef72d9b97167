import { expect, test } from "vitest";
import type { MapData } from "../api/client";
import { layOut } from "./layout";
import { tiered } from "./tiers";

function network(names: string[], cables: [string, string][]): MapData {
  const devices = names.map((name) => ({ name, kind: name.startsWith("h") ? "host" : "router", site: null }));
  const ends = (pair: [string, string]) => pair.map((device) => ({ device, interface: "e" }));
  return {
    name: "n",
    taken_at: null,
    sites: [],
    devices,
    cables: cables.map((pair, link) => ({ link, name: "", up: true, ends: ends(pair) })),
  } as unknown as MapData;
}

function fabric(spines: number, leaves: number): MapData {
  const cables: [string, string][] = [];
  const names: string[] = [];
  for (let spine = 0; spine < spines; spine++) names.push(`s${spine}`);
  for (let leaf = 0; leaf < leaves; leaf++) {
    names.push(`l${leaf}`);
    for (let spine = 0; spine < spines; spine++) cables.push([`s${spine}`, `l${leaf}`]);
    for (const host of [2 * leaf, 2 * leaf + 1]) {
      // Hosts are named so that their order is not that of their leaves.
      names.push(`h${(host * 7) % (2 * leaves)}`);
      cables.push([`h${(host * 7) % (2 * leaves)}`, `l${leaf}`]);
    }
  }
  return network(names.sort(), cables);
}

test("a fabric stands in columns: spines, leaves, hosts beside their leaf", () => {
  const map = fabric(4, 12);
  const places = layOut(map).devices;
  const column = (letter: string) =>
    new Set([...places].filter(([name]) => name.startsWith(letter)).map(([, { x }]) => x));
  expect([column("s").size, column("l").size, column("h").size]).toEqual([1, 1, 1]);
  expect(new Set([...places.values()].map(({ x, y }) => `${x} ${y}`)).size).toBe(40);
  const order = (letter: string) =>
    [...places]
      .filter(([name]) => name.startsWith(letter))
      .sort(([, a], [, b]) => a.y - b.y)
      .map(([name]) => name);
  const leafOf = new Map(map.cables.map((cable) => [cable.ends[0]?.device, cable.ends[1]?.device]));
  const beside = order("h").map((host) => leafOf.get(host));
  expect(beside).toEqual(order("l").flatMap((leaf) => [leaf, leaf]));
});

test("what does not stand in tiers is laid out by its cables", () => {
  expect(
    tiered(
      network(
        ["r0", "r1", "r2"],
        [
          ["r0", "r1"],
          ["r1", "r2"],
        ],
      ),
    ),
  ).toBeNull();
  const ring: [string, string][] = [
    ["r0", "r1"],
    ["r1", "r2"],
    ["r2", "r0"],
    ["h0", "r0"],
    ["h1", "r1"],
    ["h2", "r2"],
  ];
  expect(tiered(network(["r0", "r1", "r2", "h0", "h1", "h2"], ring))).toBeNull();
});

test("a line of routers is drawn in a line", () => {
  const names = Array.from({ length: 12 }, (_, at) => `r${at}`);
  const cables = names.slice(1).map((name, at): [string, string] => [names[at] as string, name]);
  const places = layOut(network(names, cables)).devices;
  const along = names.map((name) => places.get(name)?.x ?? 0);
  const rising = (along[1] ?? 0) > (along[0] ?? 0);
  for (let at = 1; at < along.length; at++) expect((along[at] ?? 0) > (along[at - 1] ?? 0)).toBe(rising);
});
