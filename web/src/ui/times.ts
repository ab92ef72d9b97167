import { useSyncExternalStore } from "react";

const KEY = "routrel-zone";
const listeners = new Set<() => void>();

/** Whether times are shown in the browser's own zone instead of UTC. */
export function isLocalZone(): boolean {
  return localStorage.getItem(KEY) === "local";
}

export function toggleZone() {
  localStorage.setItem(KEY, isLocalZone() ? "utc" : "local");
  for (const listener of listeners) listener();
}

function subscribe(listener: () => void) {
  listeners.add(listener);
  return () => listeners.delete(listener);
}

/** How times are written, in the zone that is chosen now. */
export function useTimes() {
  const local = useSyncExternalStore(subscribe, isLocalZone);
  return (text: string | null | undefined) => timeText(text, local);
}

const two = (value: number) => String(value).padStart(2, "0");

/** `2026-11-20 06:00 UTC`, or in the browser's zone with its offset; '' for none. */
export function timeText(text: string | null | undefined, local: boolean): string {
  if (!text) return "";
  const time = new Date(text);
  if (Number.isNaN(time.getTime())) return text;
  const offset = local ? -time.getTimezoneOffset() : 0;
  const there = new Date(time.getTime() + offset * 60_000);
  const day = `${there.getUTCFullYear()}-${two(there.getUTCMonth() + 1)}-${two(there.getUTCDate())}`;
  const sign = offset < 0 ? "-" : "+";
  const minutes = Math.abs(offset);
  const zone = local ? `${sign}${two(Math.floor(minutes / 60))}:${two(minutes % 60)}` : "UTC";
  return `${day} ${two(there.getUTCHours())}:${two(there.getUTCMinutes())} ${zone}`;
}

const UNITS = [
  ["day", 86_400],
  ["hour", 3_600],
  ["minute", 60],
] as const;

/** How long ago a time was, in its largest unit: `8 days ago`; '' for none or what is still to come. */
export function ageText(text: string | null | undefined, now: Date): string {
  const seconds = text ? (now.getTime() - new Date(text).getTime()) / 1000 : Number.NaN;
  if (!(seconds >= 0)) return "";
  for (const [unit, length] of UNITS) {
    const count = Math.floor(seconds / length);
    if (count > 0) return `${count} ${unit}${count === 1 ? "" : "s"} ago`;
  }
  return "just now";
}
