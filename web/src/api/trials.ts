import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { prefetchWalkWith, type RevisionKey } from "./answers";
import { api, type Change, type Trial, unwrap } from "./client";

const TRIALS = "/api/networks/{network_id}/trials";
const TRIAL = `${TRIALS}/{trial}` as const;

export function useTrials(networkId: string) {
  return useQuery({
    queryKey: ["trials", networkId],
    queryFn: () => unwrap(api.GET(TRIALS, { params: { path: { network_id: networkId } } })),
  });
}

export function useTrial(networkId: string, number: number) {
  return useQuery({
    queryKey: ["trial", networkId, number],
    enabled: number > 0,
    queryFn: () => unwrap(api.GET(TRIAL, { params: { path: { network_id: networkId, trial: number } } })),
  });
}

/** What is to be another in a trial. */
export type TrialChange = {
  name?: string;
  note?: string;
  changes?: Change[];
  add?: Change[];
  line?: string;
  at?: number;
};

/** What of a trial tells answers apart. */
export function trialKey({ number, version, changes }: Trial): NonNullable<RevisionKey["trial"]> {
  return { number, version, edits: changes.some((change) => change.edit === "file") };
}

/** Takes a trial that the server answered with in place of what was known of it. */
function useKept(networkId: string) {
  const queries = useQueryClient();
  return (trial: Trial) => {
    // The walks in view are asked anew at once: drawing all else would come before them.
    for (const { queryKey } of queries
      .getQueryCache()
      .findAll({ queryKey: ["answer", "walk"], type: "active" }))
      void prefetchWalkWith(queries, queryKey, trialKey(trial));
    queries.setQueryData(["trial", networkId, trial.number], trial);
    queries.setQueryData(["trials", networkId], (known: Trial[] | undefined) =>
      known ? [trial, ...known.filter((one) => one.number !== trial.number)] : undefined,
    );
  };
}

export function useChangeTrial({ networkId, number: revision, trial }: RevisionKey) {
  const kept = useKept(networkId);
  return useMutation({
    mutationFn: (body: TrialChange) => {
      if (!trial) throw new Error("There is no trial to change.");
      const path = { network_id: networkId, trial: trial.number };
      return unwrap(
        api.PATCH(TRIAL, { params: { path }, body: { ...body, revision, version: trial.version } }),
      );
    },
    onSuccess: kept,
  });
}

export function useNewTrial({ networkId, number: revision }: RevisionKey) {
  const kept = useKept(networkId);
  return useMutation({
    mutationFn: (body: { name?: string; note?: string; changes?: Change[] }) =>
      unwrap(api.POST(TRIALS, { params: { path: { network_id: networkId } }, body: { ...body, revision } })),
    onSuccess: kept,
  });
}

export function useDeleteTrial(networkId: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (trial: number) =>
      unwrap(api.DELETE(TRIAL, { params: { path: { network_id: networkId, trial } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["trials", networkId] }),
  });
}

/** Makes a revision of a trial. */
export function useMakeRevision({ networkId, number: revision, trial }: RevisionKey) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () =>
      unwrap(
        api.POST(`${TRIAL}/revision`, {
          params: { path: { network_id: networkId, trial: trial?.number ?? 0 } },
          body: { revision },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ predicate: ({ queryKey }) => queryKey[0] !== "answer" }),
  });
}

/** What would become of changes that are not kept. */
export function useCheckChanges({ networkId, number }: RevisionKey) {
  return useMutation({
    mutationFn: (changes: Change[]) =>
      unwrap(
        api.POST("/api/networks/{network_id}/revisions/{number}/tried", {
          params: { path: { network_id: networkId, number } },
          body: { changes },
        }),
      ),
  });
}
