import { isUnderWay, type Job } from "../api/jobs";

/** How far a job is that is not done. */
export function JobProgress({ job, stop, again }: { job: Job; stop: () => void; again: () => void }) {
  if (job.state === "done") return null;
  return (
    <p
      className={job.state === "failed" ? "text-stop" : "text-faint italic"}
      data-testid="expectations-progress"
    >
      {progressWords(job)}{" "}
      <button
        type="button"
        className="underline not-italic"
        onClick={() => void (isUnderWay(job) ? stop() : again())}
      >
        {isUnderWay(job) ? "stop" : "look at them"}
      </button>
    </p>
  );
}

function progressWords(job: Job): string {
  if (job.state === "waiting")
    return job.workers > 0 ? "waiting for a worker" : "no worker is at work; ./routrel worker starts one";
  if (job.state === "cancelled") return "failures are not all looked at";
  if (job.state === "failed") return job.problem;
  const things = job.failures.includes("two-at-once")
    ? "letting two things fail at once"
    : "letting one thing fail";
  const words = `${things} after the other: ${job.done} of ${job.of}`;
  const left = job.seconds_left;
  return left === null
    ? words
    : `${words}, about ${left < 90 ? `${Math.ceil(left)} s` : `${Math.ceil(left / 60)} min`} left`;
}
