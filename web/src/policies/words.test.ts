import { expect, test } from "vitest";
import type { PolicyRoute } from "../api/client";
import { changesText, listed, passes } from "./words";

const route: PolicyRoute = {
  prefix: "172.21.0.0/24",
  protocol: "bgp",
  as_path: "64502",
  accepted: true,
  statement: 2,
  changes: [
    { name: "MED", before: null, after: "40" },
    { name: "local preference", before: "100", after: "200" },
  ],
};

test("changes say what was there before", () => {
  expect(changesText(route)).toBe("MED none → 40, local preference 100 → 200");
});

test("routes of one statement, or of the closing reject", () => {
  expect([null, 2, 1, "closing" as const].map((only) => passes(route, only))).toEqual([
    true,
    true,
    false,
    false,
  ]);
  expect(passes({ ...route, statement: null }, "closing")).toBe(true);
});

test("every word typed must stand in the device's or the policy's name", () => {
  const policies = [
    { device: "bw-border", policy: "from-lantern", place: null },
    { device: "lantern", policy: "to-customers", place: null },
  ];
  expect(listed(policies, "lantern border").map((one) => one.policy)).toEqual(["from-lantern"]);
  expect(listed(policies, "LANTERN")).toHaveLength(2);
});
