import { createContext, useContext } from "react";
import { useNewTrial } from "../api/trials";
import { useCurrentNetwork } from "../frame/context";
import { useTry } from "./useTry";

export type Writing = { line: string; write: (line: string) => void };

/** The line that is being written in the trial's panel, and a way to begin one from elsewhere. */
export const WritingLine = createContext<Writing>({ line: "", write: () => undefined });

/** Begins a line in the trial that is looked at, or in a new one. */
export function useWriteLine(): (line: string) => void {
  const { revision } = useCurrentNetwork();
  const { write } = useContext(WritingLine);
  const begin = useNewTrial(revision);
  const { look } = useTry();
  return (line) => {
    write(line);
    if (!revision.trial) begin.mutate({}, { onSuccess: (trial) => look(trial.number) });
  };
}
