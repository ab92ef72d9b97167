import { createContext, useContext } from "react";
import type { RevisionKey } from "../api/answers";
import type { Network } from "../api/client";

export type NetworkContext = { network: Network; revision: RevisionKey; takenAt: string | null };

export const CurrentNetwork = createContext<NetworkContext | null>(null);

export function useCurrentNetwork(): NetworkContext {
  const current = useContext(CurrentNetwork);
  if (!current) throw new Error("useCurrentNetwork is used outside a network");
  return current;
}

/** What an address says of the state that is looked at, to be carried on to another view: revision, moment and trial. */
export function stateOf(search: URLSearchParams): Record<string, string> {
  const found: Record<string, string> = {};
  for (const key of ["revision", "time", "with"]) {
    const value = search.get(key);
    if (value) found[key] = value;
  }
  return found;
}
