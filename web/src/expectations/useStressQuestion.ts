import { useSearchParams } from "react-router";
import type { FailuresAsked } from "../api/jobs";

/** What may fail, as it is offered to be tried. */
export const STRESSES = ["links", "devices", "sites", "risk_groups", "sessions", "interfaces"] as const;

/** What is asked about failures, as it stands in the address; nothing without kinds. */
export function useStressQuestion() {
  const [search, setSearch] = useSearchParams();
  const kinds = (search.get("failures") ?? "").split(",").filter(Boolean);
  const against = search.get("against") === "places" ? "places" : "expectations";
  const isTwo = search.get("two") !== null && against === "expectations";
  const asked: FailuresAsked | null =
    kinds.length > 0 ? { failures: kinds.join(","), two_at_once: isTwo, against } : null;
  function change(words: Record<string, string | null>) {
    const next = new URLSearchParams(search);
    for (const [name, word] of Object.entries(words)) {
      if (word === null || word === "") next.delete(name);
      else next.set(name, word);
    }
    setSearch(next, { replace: true });
  }
  return {
    asked,
    kinds,
    isTwo,
    isOfPlaces: against === "places",
    turnKind: (kind: string) =>
      change({ failures: STRESSES.filter((one) => kinds.includes(one) !== (one === kind)).join(",") }),
    turnTwo: () => change({ two: isTwo ? null : "1", against: null }),
    turnPlaces: () => change({ against: against === "places" ? null : "places", two: null }),
  };
}
