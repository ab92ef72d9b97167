import { useQuery, useQueryClient } from "@tanstack/react-query";
import type { RevisionKey } from "./answers";
import { api, type Schemas, unwrap } from "./client";

export type Job = Schemas["JobAnswer"];

const JOB = "/api/networks/{network_id}/jobs/{job}";
const LOOKS = 700;

export function isUnderWay({ state }: Job): boolean {
  return state === "waiting" || state === "running";
}

/** What is expected of the network under failures, done by a worker: begun where nobody asked it before, and looked at
 * until it is there. */
export function useFailuresJob({ networkId, number, trial }: RevisionKey, failures: string) {
  const queries = useQueryClient();
  const queryKey = ["job", networkId, number, trial?.number, trial?.version, failures];
  const path = { network_id: networkId };
  const begun = useQuery({
    queryKey,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () =>
      unwrap(
        api.POST("/api/networks/{network_id}/jobs", {
          params: { path },
          body: { revision: number, failures, ...(trial ? { trial: trial.number } : {}) },
        }),
      ),
  });
  const id = begun.data?.id ?? "";
  const looked = useQuery({
    queryKey: ["job", id],
    enabled: id !== "" && begun.data !== undefined && isUnderWay(begun.data),
    queryFn: () => unwrap(api.GET(JOB, { params: { path: { ...path, job: id } } })),
    refetchInterval: ({ state }) => (state.data && !isUnderWay(state.data) ? false : LOOKS),
  });
  async function stop() {
    queries.setQueryData(
      ["job", id],
      await unwrap(api.POST(`${JOB}/cancel`, { params: { path: { ...path, job: id } } })),
    );
  }
  return {
    job: looked.data ?? begun.data,
    error: begun.error ?? looked.error,
    stop,
    again: () => queries.invalidateQueries({ queryKey }),
  };
}

/** Each expectation over the revisions of the network. */
export function useExpectationHistory(networkId: string) {
  return useQuery({
    queryKey: ["expectation history", networkId],
    queryFn: () =>
      unwrap(
        api.GET("/api/networks/{network_id}/expectation-history", {
          params: { path: { network_id: networkId } },
        }),
      ),
  });
}
