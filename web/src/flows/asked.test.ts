import { expect, test } from "vitest";
import type { Asked } from "../api/client";
import { changeOf, isOf } from "./asked";

function asked(...answers: [number, string, string][]): Asked {
  return {
    from: "a",
    to: "b",
    service: "icmp",
    enter: "",
    answers: answers.map(([revision, forward, back]) => ({ revision, forward, back })),
  } as unknown as Asked;
}

test("a question is known again", () => {
  expect(isOf(asked(), { from: "a", to: "b", service: "", enter: "" })).toBe(true);
  expect(isOf(asked(), { from: "a", to: "b", service: "tcp/80", enter: "" })).toBe(false);
});

test("the last change is said, and none where nothing changed", () => {
  expect(changeOf(asked())).toBe("");
  expect(changeOf(asked([2, "arrives", "arrives"], [1, "arrives", "arrives"]))).toBe("");
  expect(changeOf(asked([2, "arrives", "arrives"], [1, "blocked", "arrives"]))).toBe(
    "since revision 2; before, blocked",
  );
  expect(
    changeOf(asked([4, "arrives", "arrives"], [3, "arrives", "arrives"], [2, "arrives", "blocked"])),
  ).toBe("since revision 3; before, arrives, answer blocked");
});
