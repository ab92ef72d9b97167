import type { PolicyName, PolicyRoute } from "../api/client";

/** Which routes are listed: those of one statement, those of the closing reject, or all. */
export type Only = number | "closing" | null;

export function passes(route: PolicyRoute, only: Only): boolean {
  if (only === null) return true;
  return only === "closing" ? route.statement === null : route.statement === only;
}

/** What an accepted route carries on that it did not bring. */
export function changesText(route: PolicyRoute): string {
  return route.changes.map((one) => `${one.name} ${one.before ?? "none"} → ${one.after}`).join(", ");
}

/** Policies whose device or name holds every word that was typed. */
export function listed(policies: PolicyName[], typed: string): PolicyName[] {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  return policies.filter((one) =>
    words.every((word) => `${one.device} ${one.policy}`.toLowerCase().includes(word)),
  );
}
