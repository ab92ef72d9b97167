import { useHeld, useRevision } from "../api/answers";
import { isUnderWay, useTrafficJob } from "../api/jobs";
import { useCurrentNetwork } from "../frame/context";
import { AllTraffic } from "../held/AllTraffic";

/** Devices from which on all traffic is left to a worker, where there is one: smaller networks answer at once. */
const LARGE = 200;

/** What of all traffic a trial changes. */
export function TrialHeld() {
  const { revision } = useCurrentNetwork();
  const devices = useRevision(revision).data?.device_count ?? 0;
  const isLarge = devices >= LARGE && revision.moment === undefined;
  const { job, error, stop, again } = useTrafficJob(revision, isLarge);
  const isAlone = job?.state === "waiting" && job.workers === 0;
  const held = useHeld(revision, !isLarge || isAlone);
  if (!isLarge || isAlone) return <AllTraffic held={held} />;
  const failed = job?.state === "failed" ? new Error(job.problem) : null;
  return (
    <AllTraffic
      held={{
        data: job?.traffic,
        error: error ?? failed,
        fetchStatus: !job || isUnderWay(job) ? "fetching" : "idle",
        soFar: { done: job?.done ?? 0, of: job?.of ?? 0 },
        stop,
        refetch: again,
      }}
    />
  );
}
