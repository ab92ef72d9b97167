import { expect, test } from "vitest";
import { isLarge } from "../api/uploads";
import { sizeText, uploadWords } from "./uploadWords";

const waiting = { state: "waiting", stage: null, seconds: null, workers: 1, problem: "" } as const;

test("an upload says how far it is", () => {
  expect(uploadWords(waiting)).toBe("waiting for a worker");
  expect(uploadWords({ ...waiting, workers: 0 })).toContain("./routrel worker starts one");
  const running = { ...waiting, state: "running", seconds: 12.4 } as const;
  expect(uploadWords(running)).toBe("waiting for a worker");
  expect(uploadWords({ ...running, stage: "solving" })).toBe("solving it, 12 s so far");
  const failed = { ...waiting, state: "failed", problem: "The network was deleted." } as const;
  expect(uploadWords(failed)).toBe("The network was deleted; nothing was stored.");
});

test("sizes are told in the unit that suits them", () => {
  expect([1, 200_000, 999_999, 31_400_000].map(sizeText)).toEqual(["1 kB", "200 kB", "1000 kB", "31.4 MB"]);
});

test("what is small is read while one waits", () => {
  expect(isLarge({ text: "x".repeat(199_999) })).toBe(false);
  expect(isLarge({ text: "x".repeat(200_000) })).toBe(true);
  expect(isLarge({ file: new File(["x".repeat(200_000)], "n.zip") })).toBe(true);
});
