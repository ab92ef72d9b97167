import { expect, test } from "vitest";
import { sitesAlike } from "./sites";

const border = { device: "b", interface: "e1", onward: "c", as: 64501, devices: 2 };

test("sites with the same way out stand together, those that get out first", () => {
  const rows = sitesAlike([
    { site: "n", label: "North", borders: [], ends: ["no route at r"] },
    { site: "e", label: "East", borders: [border], ends: [] },
    { site: "s", label: "South", borders: [], ends: ["no route at r"] },
    { site: "w", label: "West", borders: [{ ...border, devices: 5 }], ends: [] },
  ]);
  expect(rows.map((row) => row.names)).toEqual([
    ["East", "West"],
    ["North", "South"],
  ]);
});
