import type { FailureOutcome, Schemas } from "../api/client";

export const KIND_WORDS: Record<FailureOutcome["kind"], string> = {
  links: "link",
  interfaces: "interface",
  devices: "device",
  sites: "site",
  risk_groups: "risk group",
  sessions: "session",
};

/** What becomes of a flow under a failure, from the worst to the least. */
export const OUTCOME_WORDS: Record<Schemas["EndangeredExpectation"]["outcome"], string> = {
  loops: "goes round",
  breaks: "fails",
  single: "is left a single way",
  exit: "leaves by another exit",
  longer: "takes a longer way",
  moves: "takes another way",
};
