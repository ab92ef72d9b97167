import type { Measured, OnTheWay, PathHealth, Unusual, Usual } from "../api/history";

/** What names one measure of one thing. */
export type GaugeKey = Pick<Measured, "what" | "at" | "measure">;

/** Columns of the table of health, each with the measures that stand in it. */
export const COLUMNS = [
  { title: "delay", measures: ["delay"] },
  { title: "loss", measures: ["loss"] },
  { title: "sent", measures: ["sent", "received"] },
  { title: "processor", measures: ["cpu"] },
  { title: "memory", measures: ["memory"] },
  { title: "drops, errors", measures: ["sent_drops", "received_drops", "sent_errors", "received_errors"] },
] as const;

const RATES = [
  ["Gbit/s", 1e9],
  ["Mbit/s", 1e6],
  ["kbit/s", 1e3],
] as const;

/** A value with its unit: `4.2 ms`, `0.3 %`, `48 Mbit/s`. */
export function valueText(measure: string, value: number): string {
  if (measure === "delay") return value < 1 ? `${digits(value * 1000)} ms` : `${digits(value)} s`;
  if (measure === "loss" || measure === "cpu" || measure === "memory") return `${digits(value * 100)} %`;
  if (measure === "sent" || measure === "received") {
    const [unit, size] = RATES.find(([, least]) => value >= least) ?? ["bit/s", 1];
    return `${digits(value / size)} ${unit}`;
  }
  return `${digits(value)}/s`;
}

/** Three digits that count, no more than two behind the point. */
function digits(value: number): string {
  if (value >= 100) return String(Math.round(value));
  return String(Number(value.toFixed(value >= 10 ? 1 : 2)));
}

/** What is usual, in words. */
export function usualText(measure: string, usual: Usual): string {
  const [low, high] = [valueText(measure, usual.low), valueText(measure, usual.high)];
  const spread = low === high ? "" : `, half of the time ${low} to ${high}`;
  return `usually ${valueText(measure, usual.median)}${spread} (${usual.count} samples of the same hours before)`;
}

/** The part of what there can be: `24 % of 200 Mbit/s`; '' where that is not known. */
export function shareText({ measure, median, most }: Pick<Measured, "measure" | "median" | "most">): string {
  if (!most || (measure !== "sent" && measure !== "received")) return "";
  return `${digits((100 * median) / most)} % of ${valueText(measure, most)}`;
}

export function isSame(one: GaugeKey | undefined, other: GaugeKey): boolean {
  return one?.what === other.what && one.at === other.at && one.measure === other.measure;
}

/** The columns in which something was measured. */
export function columnsOf(rows: OnTheWay[]) {
  const known = new Set(rows.flatMap((row) => row.measured.filter(isShown).map((one) => one.measure)));
  return COLUMNS.filter(({ measures }) => measures.some((measure) => known.has(measure)));
}

/** Whether a measure is worth a place: of drops and errors those that there were. */
export function isShown({ measure, highest }: Measured): boolean {
  return highest > 0 || !/drops|errors/.test(measure);
}

/** What a chart shows first: the worst, else the first that was measured. */
export function firstGauge(health: PathHealth): GaugeKey | undefined {
  return health.unusual[0] ?? health.on_the_way.flatMap((row) => row.measured).find(isShown);
}

/** Of each measure that was unusual the worst time, and how many times there were. */
export function worstOfEach(unusual: Unusual[]): { one: Unusual; times: number }[] {
  const found: { one: Unusual; times: number }[] = [];
  for (const next of unusual) {
    const known = found.find(({ one }) => isSame(one, next));
    if (known) known.times += 1;
    else found.push({ one: next, times: 1 });
  }
  return found;
}
