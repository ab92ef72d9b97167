import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { type RevisionKey, useSettled } from "./answers";
import { api, type Schemas, unwrap } from "./client";

export type Job = Schemas["JobAnswer"];

const JOB = "/api/networks/{network_id}/jobs/{job}";
const LOOKS = 700;

export function isUnderWay({ state }: Pick<Job, "state">): boolean {
  return state === "waiting" || state === "running";
}

/** What a job is asked: which failures, and what they are held against. */
export type FailuresAsked = Pick<Schemas["NewJobRequest"], "failures" | "two_at_once" | "against">;

type JobAsked = Pick<Schemas["NewJobRequest"], "question"> & FailuresAsked;

const TRAFFIC: JobAsked = {
  question: "traffic",
  failures: "none",
  two_at_once: false,
  against: "expectations",
};

export const SURVIVED: FailuresAsked = { failures: "survived", two_at_once: false, against: "expectations" };

/** A network under failures, done by a worker: begun where nobody asked it before, and looked at until it is there. */
export function useFailuresJob(key: RevisionKey, asked: FailuresAsked) {
  return useJob(key, { question: "failures", ...asked }, true);
}

/** All traffic with a trial against that without it, left to a worker. */
export function useTrafficJob(key: RevisionKey, wanted: boolean) {
  const settled = useSettled(key);
  return useJob(key, TRAFFIC, wanted && settled && key.trial !== undefined);
}

function useJob({ networkId, number, trial }: RevisionKey, asked: JobAsked, enabled: boolean) {
  const queries = useQueryClient();
  const queryKey = ["job", networkId, number, trial?.number, trial?.version, asked];
  const path = { network_id: networkId };
  const begun = useQuery({
    queryKey,
    enabled,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () =>
      unwrap(
        api.POST("/api/networks/{network_id}/jobs", {
          params: { path },
          body: { revision: number, ...asked, ...(trial ? { trial: trial.number } : {}) },
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

/** Each expectation over the revisions of the network; asked again when another job is done, or one's own goes on. */
export function useExpectationHistory(networkId: string, own: Job["state"] | undefined) {
  const params = { path: { network_id: networkId } };
  const jobs = useQuery({
    queryKey: ["jobs", networkId, own],
    placeholderData: keepPreviousData,
    queryFn: () => unwrap(api.GET("/api/networks/{network_id}/jobs", { params })),
    refetchInterval: ({ state }) => (state.data?.some(isUnderWay) ? LOOKS : false),
  });
  const done = jobs.data?.filter((job) => job.state === "done").length ?? 0;
  return useQuery({
    queryKey: ["expectation history", networkId, done],
    placeholderData: keepPreviousData,
    queryFn: () => unwrap(api.GET("/api/networks/{network_id}/expectation-history", { params })),
  });
}
