import type { components } from "../api/schema.gen";

export type Revision = components["schemas"]["Revision"];
type Network = components["schemas"]["Network"];

/** A moment of an address, or none. */
export function momentOf(text: string | null): string | undefined {
  return text && !Number.isNaN(Date.parse(text)) ? new Date(millisecond(text)).toISOString() : undefined;
}

/** The first millisecond at which a moment has come: events may be finer than that. */
export function millisecond(text: string): number {
  return Date.parse(text) + (/\.\d{3}\d*[1-9]/.test(text) ? 1 : 0);
}

/** When a revision was true, or was sent where it says no time. */
export function sinceOf(revision: Pick<Revision, "taken_at" | "created_at">): number {
  return Date.parse(revision.taken_at ?? revision.created_at);
}

/** The time of the last event on record, where it is later than the newest revision, which is asked of as it is. */
export function changedSince(
  { latest, events_until }: Pick<Network, "latest" | "events_until">,
  asked: { number: number; moment?: string | undefined },
): string | undefined {
  if (!latest || !events_until || asked.moment || asked.number !== latest.number) return undefined;
  return Date.parse(events_until) > sinceOf(latest) ? events_until : undefined;
}

/** Revisions by the time that each stands for: from when it was true to when the next one was; the first reaches back. */
export function reigns(
  revisions: Pick<Revision, "number" | "taken_at" | "created_at">[],
): { number: number; since: number; from: number; until: number }[] {
  const known = [...revisions].sort(
    (one, other) => sinceOf(one) - sinceOf(other) || one.number - other.number,
  );
  return known.map((one, at) => {
    const next = known.slice(at + 1).find((later) => sinceOf(later) > sinceOf(one));
    return {
      number: one.number,
      since: sinceOf(one),
      from: at ? sinceOf(one) : Number.NEGATIVE_INFINITY,
      until: next ? sinceOf(next) : Number.POSITIVE_INFINITY,
    };
  });
}

/** The number of the revision that was true at a moment. */
export function trueAt(
  revisions: Pick<Revision, "number" | "taken_at" | "created_at">[],
  moment: string,
): number | undefined {
  const at = Date.parse(moment);
  return reigns(revisions).findLast((one) => one.from <= at)?.number;
}
