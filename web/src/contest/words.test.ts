import { describe, expect, test } from "vitest";
import type { Candidate } from "../api/client";
import { actionText, hopsText, inOrder, kindText, outcomeText } from "./words";

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
