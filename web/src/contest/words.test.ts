import { describe, expect, test } from "vitest";
import type { Candidate, TippingPoint } from "../api/client";
import { actionText, hopsText, inOrder, kindText, outcomeText, valueText, winsBy } from "./words";

const hop = (address: string | null, device: string | null) => ({ address, interface: "e1", device });

function candidate(state: Candidate["state"], lost_in: number | null = null): Candidate {
  return { state, lost_in } as Candidate;
}

describe("words of routes", () => {
  test("a next hop names its address, interface and device, as far as they are known", () => {
    expect(hopsText([hop("10.0.0.1", "b")])).toBe("10.0.0.1 by e1 (b)");
    expect(hopsText([hop(null, "b")])).toBe("link-local by e1 (b)");
    expect(hopsText([hop(null, null)])).toBe("on e1");
  });

  test("a route that does not forward says what it does", () => {
    expect(actionText({ action: "discard", next_hops: [] })).toBe("discards");
    expect(actionText({ action: "forward", next_hops: [hop("10.0.0.1", null)] })).toBe("10.0.0.1 by e1");
  });

  test("a kind stands behind its protocol, and no route is said as such", () => {
    expect(kindText({ protocol: "ospf", kind: "inter-area" })).toBe("ospf inter-area");
    expect(kindText({ protocol: "rip", kind: "" })).toBe("rip");
    expect(outcomeText({ protocol: null, kind: "", action: null, next_hops: [] })).toBe("no route");
  });

  test("winners come first, then those that held out longest, those left out last", () => {
    const all = [candidate("out"), candidate("lost", 0), candidate("winner"), candidate("lost", 2)];
    expect(inOrder(all)).toEqual([2, 3, 1, 0]);
  });
});

describe("what makes a candidate win", () => {
  const path = "from 198.51.100.2 (bellbuoy, AS 64502)";
  const loser = {
    ...candidate("lost", 0),
    protocol: "bgp",
    kind: "external",
    origin: path,
    next_hops: [hop("10.0.0.1", "b")],
  };
  const point = (what: string, protocol: string, by: string, change: object | null) =>
    ({
      what,
      device: "a",
      value: 201,
      change,
      becomes: { protocol, kind: "external", action: "forward", next_hops: [hop(by, "b")] },
    }) as unknown as TippingPoint;
  const right = point(`local preference of the path ${path}`, "bgp", "10.0.0.1", { set: "local_preference" });

  test("only points at which it is in the table, and that a change can say", () => {
    const others = [
      point("weight", "bgp", "10.0.0.9", { set: "weight" }),
      point("preference of ospf", "ospf", "10.0.0.1", { set: "preference" }),
      point("MED", "bgp", "10.0.0.1", null),
    ];
    expect(winsBy(loser as Candidate, [...others, right])).toEqual([right]);
    expect(winsBy({ ...loser, state: "winner" } as Candidate, [right])).toEqual([]);
  });

  test("its own path is not named again", () => {
    expect(valueText(right, loser as Candidate)).toBe("local preference 201");
    expect(valueText(point("cost of e1", "bgp", "10.0.0.1", null), loser as Candidate)).toBe(
      "cost of e1 on a at 201",
    );
  });
});
