import { expect, test } from "vitest";
import { csv } from "./download";

test("cells are quoted where they must be and formulas disarmed", () => {
  expect(
    csv([
      ["prefix", "metric"],
      ["10.0.0.0/8", 20],
      ["::/0", null],
    ]),
  ).toBe("prefix,metric\r\n10.0.0.0/8,20\r\n::/0,");
  expect(csv([['a "b", c', "two\nlines"]])).toBe('"a ""b"", c","two\nlines"');
  expect(csv([["=cmd()", "+1", "-1", "@x", -1]])).toBe("'=cmd(),'+1,'-1,'@x,-1");
});
