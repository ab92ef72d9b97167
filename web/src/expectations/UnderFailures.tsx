import { type FailuresAsked, useFailuresJob } from "../api/jobs";
import { useCurrentNetwork } from "../frame/context";
import { Alert } from "../ui/Alert";
import { Key } from "../ui/Key";
import { useKeys } from "../ui/useKeys";
import { FailureList } from "./FailureList";
import { JobProgress } from "./JobProgress";
import { PlacesList } from "./PlacesList";
import { STRESSES, useStressQuestion } from "./useStressQuestion";
import { KIND_WORDS } from "./words";

const KEYS: Partial<Record<(typeof STRESSES)[number], string>> = { links: "e", devices: "v" };

/** What failures do to what is expected, or to all traffic: chosen, and done by a job. */
export function UnderFailures() {
  const { asked, kinds, isTwo, isOfPlaces, turnKind, turnTwo, turnPlaces } = useStressQuestion();
  useKeys({ e: () => turnKind("links"), v: () => turnKind("devices"), t: turnTwo, p: turnPlaces });
  return (
    <section className="mt-5 pb-8" aria-label="failures">
      <div className="flex flex-wrap items-baseline gap-x-4 pb-1">
        <h2 className="text-lg">{isTwo ? "Under each two failures at once of" : "Under each failure of"}</h2>
        {STRESSES.map((kind) => (
          <Choice key={kind} chosen={kinds.includes(kind)} turn={() => turnKind(kind)} keyName={KEYS[kind]}>
            {KIND_WORDS[kind]}s
          </Choice>
        ))}
        <span className="ml-auto flex gap-x-4">
          <Choice chosen={isTwo} turn={turnTwo} keyName="t">
            two at once
          </Choice>
          <Choice chosen={isOfPlaces} turn={turnPlaces} keyName="p">
            all traffic
          </Choice>
        </span>
      </div>
      {asked ? (
        <Found asked={asked} />
      ) : (
        (isTwo || isOfPlaces) && <p className="text-faint">Choose what fails.</p>
      )}
    </section>
  );
}

function Choice({
  chosen,
  turn,
  keyName,
  children,
}: {
  chosen: boolean;
  turn: () => void;
  keyName: string | undefined;
  children: React.ReactNode;
}) {
  return (
    <button
      type="button"
      aria-pressed={chosen}
      onClick={turn}
      className={`border-b-2 ${chosen ? "border-ink" : "border-transparent text-faint hover:text-ink"}`}
    >
      {children} {keyName && <Key>{keyName}</Key>}
    </button>
  );
}

function Found({ asked }: { asked: FailuresAsked }) {
  const { revision } = useCurrentNetwork();
  const { job, error, stop, again } = useFailuresJob(revision, asked);
  if (error) return <Alert>{error.message}</Alert>;
  if (!job) return null;
  return (
    <>
      <JobProgress job={job} stop={stop} again={again} />
      {job.held && <FailureList held={job.held} isTwo={asked.two_at_once} />}
      {job.places && job.places.failures_tried > 0 && <PlacesList found={job.places} />}
    </>
  );
}
