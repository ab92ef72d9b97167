import { expect, it } from "vitest";
import { counted } from "./words";

it("counts in words", () => {
  expect(counted(1, "policy")).toBe("1 policy");
  expect(counted(2, "policy")).toBe("2 policies");
  expect(counted(2, "gateway")).toBe("2 gateways");
  expect(counted(4, "switch")).toBe("4 switches");
  expect(counted(2, "prefix")).toBe("2 prefixes");
  expect(counted(1234, "route")).toBe("1,234 routes");
});
