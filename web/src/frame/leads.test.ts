import { describe, expect, it } from "vitest";
import { leadsOf } from "./leads";

const place = { file: "devices/r1.yaml", line: 7, column: 1 };

function leads(kind: string, more: object = {}) {
  const went: unknown[] = [];
  const found = { word: "w", kind, detail: "d", device: "r1", vrf: "default", place, ...more };
  const actions = leadsOf(
    found,
    (key, word) => went.push([key, word]),
    (view, words) => went.push([view, words]),
  );
  for (const action of actions) action.run();
  return { told: actions.map((action) => action.detail), went };
}

describe("what was found leads", () => {
  it("places to questions and tables", () => {
    expect(leads("router").went).toEqual([
      ["from", "w"],
      ["to", "w"],
      ["routes/table", { device: "r1" }],
    ]);
    expect(leads("owner").told).toEqual(["ask from here · owner d", "ask to here"]);
  });
  it("prefixes to every route, instances to their own table", () => {
    expect(leads("prefix").went[0]).toEqual(["routes", { to: "w" }]);
    expect(leads("routing instance", { vrf: "red" }).went).toEqual([
      ["routes/table", { device: "r1", vrf: "red" }],
    ]);
  });
  it("what is written to its line, and a policy to what it does", () => {
    const line = ["model/source", { file: "devices/r1.yaml", line: "7" }];
    for (const kind of ["ACL", "entry", "forwarding policy"]) expect(leads(kind).went).toEqual([line]);
    expect(leads("session").went[0]).toEqual(line);
    expect(leads("policy").went[0]).toEqual(["routes/policies", { device: "r1", policy: "w" }]);
    expect(leads("entry", { place: null }).went).toEqual([]);
  });
});
