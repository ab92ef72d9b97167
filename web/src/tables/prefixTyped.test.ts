import { expect, test } from "vitest";
import { prefixTyped } from "./prefixTyped";

test.each([
  ["20", "20.0.0.0/8"],
  ["20.33.", "20.33.0.0/16"],
  ["20.33.4", "20.33.4.0/24"],
  ["20.33.4.5", "20.33.4.5/32"],
  ["20.33.4.0/24", "20.33.4.0/24"],
  ["20.33.4.5/20", "20.33.0.0/20"],
  ["0.0.0.0/0", "0.0.0.0/0"],
  [" 2001:db8::/32 ", "2001:db8::/32"],
])("%s is %s", (typed, prefix) => {
  expect(prefixTyped(typed)).toBe(prefix);
});

test.each(["", "bgp", "300.1", "20.33/16", "10.0.0.0/33", "by up", "2001:db8"])("%s is none", (typed) => {
  expect(prefixTyped(typed)).toBe("");
});
