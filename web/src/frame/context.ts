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
