import { expect, test } from "vitest";
import { editable, expecting, lacks, NEW_ENTRY, written } from "./entry";

test("an entry is written as it was read", () => {
  const data = { from: "a", to: ["b", "c"], on: "tcp/443", ways: 2, survives: ["links"], tags: ["night"] };
  expect(written(editable(data))).toEqual({ ...data, survives: "links" });
});

test("what goes without saying is not said", () => {
  const entry = { ...NEW_ENTRY, from: ["a"], to: ["b"], ways: 2, apart: "links", passes: [], note: "" };
  expect(written(entry)).toEqual({ from: "a", to: "b", ways: 2 });
  expect(written({ ...entry, apart: "sites" })).toEqual({ from: "a", to: "b", ways: 2, apart: "sites" });
});

test("of what never arrives nothing is asked of a way", () => {
  const entry = {
    ...NEW_ENTRY,
    from: ["a"],
    to: ["b"],
    hops: 3,
    ways: 2,
    apart: "sites",
    same_way_back: true,
  };
  expect(written(expecting(entry, "never arrives"))).toEqual({ from: "a", to: "b", expect: "never arrives" });
  expect(written(expecting(entry, "arrives"))).not.toHaveProperty("same_way_back");
});

test("what is lacking is said", () => {
  expect(lacks("", NEW_ENTRY)).toBe("a name");
  expect(lacks("x", NEW_ENTRY)).toBe("a place it comes from");
  expect(lacks("x", { ...NEW_ENTRY, from: ["a"] })).toBe("a place it goes to");
  expect(lacks("x", { ...NEW_ENTRY, from: ["a"], to: ["b"] })).toBe("");
});
