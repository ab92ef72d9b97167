import { describe, expect, it } from "vitest";
import { MOVED, nextIn, ROOMS, viewAt } from "./rooms";

const [flow, routes, model] = ROOMS;

describe("rooms", () => {
  it("are at most six, each with a key of its own", () => {
    expect(ROOMS.length).toBeLessThanOrEqual(6);
    expect(new Set(ROOMS.map((room) => room.key)).size).toBe(ROOMS.length);
  });

  it("are entered by their key at the first view, and stepped through by it", () => {
    expect(nextIn(routes, "flow")).toBe("routes");
    expect(nextIn(routes, "routes")).toBe("routes/table");
    expect(nextIn(routes, "routes/policies")).toBe("routes");
    expect(nextIn(flow, "flow")).toBe("flow/beside");
    expect(nextIn(flow, "flow/beside")).toBe("flow");
    expect(nextIn(model, "routes/table")).toBe("model");
  });

  it("have all that addresses of old lead to", () => {
    for (const to of Object.values(MOVED)) expect(viewAt(to)).toBeDefined();
  });

  it("know the view of an address", () => {
    expect(viewAt("model/source")?.label).toBe("source");
    expect(viewAt("nowhere")).toBeUndefined();
  });
});
