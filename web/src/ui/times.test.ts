import { describe, expect, it } from "vitest";
import { ageText, timeText } from "./times";

describe("times", () => {
  it("are written by the standard, in UTC", () => {
    expect(timeText("2026-11-20T07:00:00+01:00", false)).toBe("2026-11-20 06:00 UTC");
    expect(timeText(null, false)).toBe("");
    expect(timeText("yesterday", false)).toBe("yesterday");
  });

  it("say their offset in the browser's zone", () => {
    expect(timeText("2026-11-20T06:00:00Z", true)).toMatch(/^2026-11-(19|20|21) \d\d:\d\d [+-]\d\d:\d\d$/);
  });

  it("are so long ago", () => {
    const now = new Date("2026-11-28T08:00:00Z");
    expect(ageText("2026-11-20T06:00:00Z", now)).toBe("8 days ago");
    expect(ageText("2026-11-28T06:59:00Z", now)).toBe("1 hour ago");
    expect(ageText("2026-11-28T07:59:50Z", now)).toBe("just now");
    expect(ageText("2026-11-29T00:00:00Z", now)).toBe("");
    expect(ageText(null, now)).toBe("");
  });
});
