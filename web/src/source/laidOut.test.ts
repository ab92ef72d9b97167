import { expect, test } from "vitest";
import { laidOut } from "./laidOut";

const long = {
  name: "a network",
  devices: Object.fromEntries(
    Array.from({ length: 20 }, (_, at) => [
      `r${at}`,
      { interfaces: { e1: { addresses: [`10.0.${at}.1/24`], description: 'to "b": {x, y]' } }, vrfs: [] },
    ]),
  ),
};

test("JSON of one long line is laid out, and says the same", () => {
  const shown = laidOut(JSON.stringify(long));
  expect(shown.isLaidOut).toBe(true);
  expect(JSON.parse(shown.text)).toEqual(long);
  expect(Math.max(...shown.text.split("\n").map((line) => line.length))).toBeLessThan(120);
});

test("a place of the original is found again", () => {
  const text = JSON.stringify(long);
  const shown = laidOut(text);
  const lines = shown.text.split("\n");
  for (const wanted of ['"r0"', '"r19"', "10.0.7.1/24", '"vrfs"']) {
    const { line, column } = shown.at(1, text.indexOf(wanted) + 1);
    expect(lines[line - 1]?.slice(column - 1).startsWith(wanted)).toBe(true);
  }
});

test("of a line that is shown, the part of the original is known", () => {
  const text = JSON.stringify(long);
  const shown = laidOut(text);
  shown.text.split("\n").forEach((line, at) => {
    const { line: row, column, end } = shown.original(at + 1);
    expect(row).toBe(1);
    const squeezed = (one: string) => one.replace(/\s/g, "");
    expect(squeezed(text.slice(column - 1, end - 1))).toBe(squeezed(line));
  });
});

test("what people wrote is left as it is", () => {
  for (const text of [
    "routrel: 1\nname: a\n",
    '{\n "a": 1\n}\n',
    `{"a": "${"x".repeat(500)}`,
    `["${"a".repeat(500)}"]]`,
  ]) {
    const shown = laidOut(text);
    expect(shown.text).toBe(text);
    expect(shown.at(2, 3)).toEqual({ line: 2, column: 3 });
  }
});
