import { expect, test } from "vitest";
import type { Network } from "../api/client";
import { listed, type ORDERS } from "./order";

const network = (name: string, devices: number, errors: number | null, asked: string | null) =>
  ({
    name,
    asked_at: asked,
    latest: { device_count: devices, error_count: errors, created_at: "2026-11-01T00:00:00Z" },
  }) as Network;

const all = [
  network("ferries", 41, 3, null),
  network("Fabric", 40, 0, "2026-11-02T00:00:00Z"),
  network("attic", 900, null, "2026-11-03T00:00:00Z"),
];

test("networks are listed in any order, and found by a part of their name", () => {
  const names = (order: (typeof ORDERS)[number], typed = "") =>
    listed(all, typed, order).map((one) => one.name);
  expect(names("name")).toEqual(["attic", "Fabric", "ferries"]);
  expect(names("last asked")).toEqual(["attic", "Fabric", "ferries"]);
  expect(names("devices")).toEqual(["attic", "ferries", "Fabric"]);
  expect(names("errors")).toEqual(["ferries", "Fabric", "attic"]);
  expect(names("newest revision")).toEqual(["attic", "Fabric", "ferries"]);
  expect(names("name", " F")).toEqual(["Fabric", "ferries"]);
});
