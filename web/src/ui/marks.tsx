import type { Strand } from "../api/client";

export type Verdict = Strand["verdict"];
export type Direction = "forward" | "return";

export const VERDICT_WORDS: Record<Verdict, string> = {
  arrives: "arrives",
  blocked: "blocked",
  unrouted: "unrouted",
  discarded: "discarded",
  unresolved: "unresolved",
  loops: "loops",
  leaves: "leaves the model",
  mixed: "mixed",
};

/** Each verdict has a shape of its own, so that meaning never rests on colour. */
const SHAPES: Record<Verdict, string> = {
  arrives: "M2 8.5 6.2 12.5 14 3.5",
  blocked: "M3 2.5V13.5M8 2.5V13.5M13 2.5V13.5",
  unrouted: "M2 8H5M7 8H9M11 8H14",
  discarded: "M2 4H14M4 8H12M6.5 12H9.5",
  unresolved: "M5 5.2A3 3 0 1 1 8 8.5V10M8 12.8V13.3",
  loops: "M12.5 5A5.2 5.2 0 1 0 13.2 9M13 1.8V5.4H9.4",
  leaves: "M3 8H13M9 4 13 8 9 12",
  mixed: "M2 8H7L13 3M7 8 13 13",
};

export function verdictTone(verdict: Verdict): string {
  if (verdict === "arrives") return "text-good";
  return verdict === "leaves" ? "text-ink" : "text-stop";
}

export function VerdictMark({ verdict, size = 15 }: { verdict: Verdict; size?: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 16 16" className="inline-block shrink-0" aria-hidden="true">
      <path d={SHAPES[verdict]} fill="none" stroke="currentColor" strokeWidth="2" strokeLinecap="round" />
    </svg>
  );
}

const KIND_PATHS: Record<string, string> = {
  router: "M0-6A6 6 0 1 1 0 6A6 6 0 1 1 0-6Z",
  switch: "M-6-4H6V4H-6Z",
  firewall: "M0-7 7 0 0 7-7 0Z",
  host: "M0-3.6A3.6 3.6 0 1 1 0 3.6A3.6 3.6 0 1 1 0-3.6Z",
  gateway: "M-6.5 5H6.5L0-6.5Z",
  balancer: "M-6 0-3-5.5H3L6 0 3 5.5H-3Z",
};

/** A device kind as a plain geometric mark around the origin. */
export function kindPath(kind: string): string {
  return KIND_PATHS[kind] ?? (KIND_PATHS.router as string);
}

export function KindMark({ kind }: { kind: string }) {
  return (
    <svg
      width="14"
      height="14"
      viewBox="-8 -8 16 16"
      className="inline-block shrink-0"
      role="img"
      aria-label={kind}
    >
      <title>{kind}</title>
      <path
        d={kindPath(kind)}
        fill={kind === "host" ? "currentColor" : "none"}
        stroke="currentColor"
        strokeWidth="1.6"
      />
    </svg>
  );
}

export function tone(direction: Direction): string {
  return direction === "forward" ? "text-forward" : "text-return";
}
