import { expect, test } from "vitest";
import { parseTyped, questionOf, swapped, typedForm, withQuestion } from "./sentence";

test("a typed line and its question are the same thing", () => {
  const question = { from: "kiosk", to: "10.0.0.1", service: "tcp/443", enter: "r1:e2" };
  expect(parseTyped(typedForm(question))).toEqual(question);
  expect(parseTyped("a > b")).toEqual({ from: "a", to: "b", service: "icmp", enter: "" });
  expect(parseTyped("2001:db8::1 > r1:e1 udp/53")).toEqual({
    from: "2001:db8::1",
    to: "r1:e1",
    service: "udp/53",
    enter: "",
  });
});

test("a line that is no question says how to write one", () => {
  for (const line of ["", "a", "a >", "> b", "a > b > c", "a b > c", "a > b tcp/1 more", "a > b by"]) {
    expect(typeof parseTyped(line), line).toBe("string");
  }
});

test("a question survives its URL, and swapping twice gives it back", () => {
  const question = { from: "a", to: "b", service: "tcp/22", enter: "" };
  expect(questionOf(withQuestion(new URLSearchParams("revision=3&at=x"), question))).toEqual(question);
  expect(withQuestion(new URLSearchParams("revision=3&at=x"), question).get("revision")).toBe("3");
  expect(withQuestion(new URLSearchParams("at=x"), question).get("at")).toBeNull();
  expect(swapped(swapped(question))).toEqual(question);
});
