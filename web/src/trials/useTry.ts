import { useSearchParams } from "react-router";
import type { Change } from "../api/client";
import { useChangeTrial, useNewTrial } from "../api/trials";
import { useCurrentNetwork } from "../frame/context";

/** Tries changes: they come to the trial that is looked at, or begin a new one, which then is looked at. */
export function useTry() {
  const { revision } = useCurrentNetwork();
  const [search, setSearch] = useSearchParams();
  const change = useChangeTrial(revision);
  const begin = useNewTrial(revision);

  function look(trial: number | null) {
    const next = new URLSearchParams(search);
    if (trial === null) next.delete("with");
    else next.set("with", String(trial));
    setSearch(next);
  }

  /** `then` is called once they stand in it. */
  function tryOut(changes: Change[], then?: () => void) {
    if (revision.trial) change.mutate({ add: changes }, { onSuccess: then });
    else
      begin.mutate(
        { changes },
        {
          onSuccess: (trial) => {
            look(trial.number);
            then?.();
          },
        },
      );
  }
  return { tryOut, look, isBusy: change.isPending || begin.isPending, error: change.error ?? begin.error };
}
