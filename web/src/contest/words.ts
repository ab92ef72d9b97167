import type { Candidate, NextHop, Outcome, TableRow, TippingPoint } from "../api/client";

/** Next hops in words: address, interface, and the device behind it where it is known. */
export function hopsText(hops: NextHop[]): string {
  return hops
    .map((hop) =>
      hop.address || hop.device
        ? `${hop.address ?? "link-local"} by ${hop.interface}${hop.device ? ` (${hop.device})` : ""}`
        : `on ${hop.interface}`,
    )
    .join(", ");
}

/** What a route does with a packet. */
export function actionText(route: { action: string | null; next_hops: NextHop[] }): string {
  if (route.action && route.action !== "forward") return `${route.action}s`;
  return hopsText(route.next_hops);
}

export function rowText(row: TableRow): string {
  return actionText(row);
}

/** A candidate by name: its protocol and kind. */
export function kindText(candidate: { protocol: string | null; kind: string }): string {
  return [candidate.protocol, candidate.kind].filter(Boolean).join(" ");
}

export function outcomeText(outcome: Outcome): string {
  return outcome.protocol ? `${kindText(outcome)}, ${actionText(outcome)}` : "no route";
}

/** Candidates in the order they are read: winners, then those that held out longest, the ones left out last. */
export function inOrder(candidates: Candidate[]): number[] {
  const rank = (one: Candidate) =>
    one.state === "winner" ? -1000 : one.state === "out" ? 1000 : -(one.lost_in ?? 0);
  return candidates
    .map((_, index) => index)
    .sort((a, b) => rank(candidates[a] as Candidate) - rank(candidates[b] as Candidate) || a - b);
}

/** The tipping points at which a candidate that lost is in the table: by its next hops, whatever else is with it. */
export function winsBy(candidate: Candidate, points: TippingPoint[]): TippingPoint[] {
  const hops = new Set(candidate.next_hops.map((hop) => hopsText([hop])));
  return points.filter(
    ({ change, becomes }) =>
      change &&
      candidate.state === "lost" &&
      kindText(becomes) === kindText(candidate) &&
      becomes.next_hops.some((hop) => hops.has(hopsText([hop]))),
  );
}

/** What a tipping point sets, where it is said of a candidate: of its own path without naming it again. */
export function valueText(point: TippingPoint, candidate: Candidate): string {
  const [what = "", path] = point.what.split(" of the path ");
  if (path === candidate.origin) return `${what} ${point.value}`;
  return `${point.what} on ${point.device} at ${point.value}`;
}
