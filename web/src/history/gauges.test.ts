import { describe, expect, it } from "vitest";
import type { Measured, OnTheWay, PathHealth, Unusual, Usual } from "../api/history";
import {
  columnsOf,
  firstGauge,
  isSame,
  isShown,
  shareText,
  usualText,
  valueText,
  worstOfEach,
} from "./gauges";

const USUAL: Usual = { low: 0.002, median: 0.0021, high: 0.0022, count: 24 };

function measured(measure: string, more: Partial<Measured> = {}): Measured {
  return {
    what: "interface",
    at: "r1:e1",
    measure,
    toward: "r2",
    count: 3,
    median: 1,
    highest: 2,
    most: null,
    usual: null,
    is_unusual: false,
    ...more,
  };
}

function row(...of: Measured[]): OnTheWay {
  return {
    what: "link",
    at: "r1:e1",
    words: "link r1:e1 – r2:e1",
    there: true,
    back: false,
    up: 1,
    outages: 0,
    measured: of,
  };
}

function unusual(at: string, start: string): Unusual {
  const words = `delay of ${at} was 30 ms`;
  return { what: "link", at, measure: "delay", start, end: start, median: 0.03, usual: USUAL, words };
}

describe("values", () => {
  it("have the unit that suits them", () => {
    expect(valueText("delay", 0.00042)).toBe("0.42 ms");
    expect(valueText("delay", 1.5)).toBe("1.5 s");
    expect(valueText("loss", 0.003)).toBe("0.3 %");
    expect(valueText("cpu", 1)).toBe("100 %");
    expect(valueText("sent", 48_200_000)).toBe("48.2 Mbit/s");
    expect(valueText("received", 2.5e9)).toBe("2.5 Gbit/s");
    expect(valueText("sent", 900)).toBe("900 bit/s");
    expect(valueText("sent_drops", 0.25)).toBe("0.25/s");
  });
  it("are told with what is usual", () => {
    const said = "usually 2.1 ms, half of the time 2 ms to 2.2 ms (24 samples of the same hours before)";
    expect(usualText("delay", USUAL)).toBe(said);
    const flat = { ...USUAL, low: 0, median: 0, high: 0 };
    expect(usualText("loss", flat)).toBe("usually 0 % (24 samples of the same hours before)");
  });
  it("of load are a share of the bandwidth where that is known", () => {
    expect(shareText(measured("sent", { median: 48e6, most: 200e6 }))).toBe("24 % of 200 Mbit/s");
    expect(shareText(measured("sent"))).toBe("");
    expect(shareText(measured("cpu", { most: 1 }))).toBe("");
  });
});

describe("the table", () => {
  it("has the columns in which something was measured", () => {
    const rows = [
      row(measured("delay")),
      row(measured("received")),
      row(measured("sent_drops", { highest: 0 })),
    ];
    expect(columnsOf(rows).map(({ title }) => title)).toEqual(["delay", "sent"]);
    expect(columnsOf([])).toEqual([]);
  });
  it("shows drops and errors where there were some", () => {
    expect(isShown(measured("sent_drops", { highest: 0 }))).toBe(false);
    expect(isShown(measured("received_errors", { highest: 0.1 }))).toBe(true);
    expect(isShown(measured("loss", { highest: 0 }))).toBe(true);
  });
});

describe("what is unusual", () => {
  it("stands once for each measure, the worst first, with how many times", () => {
    const times = [unusual("a", "1"), unusual("b", "1"), unusual("a", "2")];
    expect(worstOfEach(times).map(({ one, times: count }) => [one.at, one.start, count])).toEqual([
      ["a", "1", 2],
      ["b", "1", 1],
    ]);
  });
  it("is what a chart shows first, else what was measured", () => {
    const health: PathHealth = {
      on_the_way: [row(measured("sent_drops", { highest: 0 }), measured("delay"))],
      delays: [],
      unusual: [unusual("a", "1")],
      is_measured: true,
    };
    expect(firstGauge(health)?.at).toBe("a");
    const calm = firstGauge({ ...health, unusual: [] });
    expect(calm?.measure).toBe("delay");
    expect(isSame(calm, measured("delay"))).toBe(true);
    expect(isSame(undefined, measured("delay"))).toBe(false);
    expect(firstGauge({ ...health, unusual: [], on_the_way: [] })).toBeUndefined();
  });
});
