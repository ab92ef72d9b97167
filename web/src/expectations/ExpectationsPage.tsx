import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { useExpectations } from "../api/answers";
import type { ExpectationHeld, Schemas } from "../api/client";
import { isUnderWay, type Job, useExpectationHistory, useFailuresJob } from "../api/jobs";
import { withQuestion } from "../flows/sentence";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { SourceLink } from "../source/SourceLink";
import { TryButton } from "../trials/TryButton";
import { FirstOf } from "../ui/FirstOf";
import { Key } from "../ui/Key";
import { Empty, Failed, Waiting } from "../ui/states";
import { useKeys } from "../ui/useKeys";
import { counted } from "../ui/words";
import { FailureList } from "./FailureList";
import { FailsSince, OverRevisions } from "./History";
import { StateMark } from "./StateMark";
import { KIND_WORDS } from "./words";

/** What may fail alone, as it is offered to be tried. */
const STRESSES = ["links", "devices", "sites", "risk_groups", "sessions", "interfaces"] as const;
/** What is expected of the network, whether it holds, and what every single failure does to it. */
export default function ExpectationsPage() {
  const { network, revision } = useCurrentNetwork();
  const [search, setSearch] = useSearchParams();
  const kinds = (search.get("failures") ?? "").split(",").filter(Boolean);
  const [onlyFailing, setOnlyFailing] = useState(false);
  const asIs = useExpectations(revision);
  const { job, error: jobError, stop, again } = useFailuresJob(revision, kinds.join(",") || "survived");
  const history = useExpectationHistory(network.id);
  const isDone = job?.state === "done";
  const { refetch: readHistory } = history;
  useEffect(() => {
    if (isDone) void readHistory();
  }, [isDone, readHistory]);
  const held = job?.held ?? asIs.data;
  function turn(kind: string) {
    const next = new URLSearchParams(search);
    const chosen = STRESSES.filter((one) => kinds.includes(one) !== (one === kind));
    if (chosen.length > 0) next.set("failures", chosen.join(","));
    else next.delete("failures");
    setSearch(next, { replace: true });
  }
  useKeys({ e: () => turn("links"), v: () => turn("devices"), a: () => setOnlyFailing(!onlyFailing) });
  const error = jobError ?? asIs.error;
  if (error) return <Failed error={error} what="What is expected cannot be shown." />;
  if (!held) return <Waiting what="what is expected" />;
  if (held.expectations.length === 0)
    return (
      <Empty title="Nothing is expected of this network yet.">
        What must stay true is written in expectations.yaml of its folder: a list such as{" "}
        <span className="mono">- {"{name: the shop is open, from: office, to: shop, on: tcp/443}"}</span>
      </Empty>
    );
  const shown = held.expectations.filter((one) => !onlyFailing || one.state !== "holds");
  return (
    <div className="h-full overflow-auto px-6 pt-4" data-testid="expectations">
      <div className="flex flex-wrap items-baseline gap-x-4 pb-2">
        <h2 className="text-lg">What is expected</h2>
        <p data-testid="expectations-words">{held.words}</p>
        {job && job.state !== "done" && <Progress job={job} stop={stop} again={again} />}
        <button
          type="button"
          aria-pressed={onlyFailing}
          className="ml-auto text-faint hover:text-ink"
          onClick={() => setOnlyFailing(!onlyFailing)}
        >
          {onlyFailing ? "show all" : "only what does not hold"} <Key>a</Key>
        </button>
      </div>
      <ol>
        {shown.map((one) => (
          <Expected key={one.name} one={one} history={history.data?.find(({ name }) => name === one.name)} />
        ))}
      </ol>
      <section className="mt-5 pb-8" aria-label="single failures">
        <div className="flex flex-wrap items-baseline gap-x-4 pb-1">
          <h2 className="text-lg">Under each single failure of</h2>
          {STRESSES.map((kind) => (
            <button
              key={kind}
              type="button"
              aria-pressed={kinds.includes(kind)}
              onClick={() => turn(kind)}
              className={`border-b-2 ${kinds.includes(kind) ? "border-ink" : "border-transparent text-faint hover:text-ink"}`}
            >
              {KIND_WORDS[kind]}s {kind === "links" && <Key>e</Key>}
              {kind === "devices" && <Key>v</Key>}
            </button>
          ))}
        </div>
        {kinds.length > 0 && job?.held && <FailureList held={job.held} />}
      </section>
    </div>
  );
}

/** How far a job is that is not done. */
function Progress({ job, stop, again }: { job: Job; stop: () => void; again: () => void }) {
  const left = job.seconds_left;
  let words = `letting one thing fail after the other: ${job.done} of ${job.of}`;
  if (left !== null)
    words += `, about ${left < 90 ? `${Math.ceil(left)} s` : `${Math.ceil(left / 60)} min`} left`;
  if (job.state === "waiting")
    words = job.workers > 0 ? "waiting for a worker" : "no worker is at work; ./routrel worker starts one";
  if (job.state === "cancelled") words = "failures are not all looked at";
  if (job.state === "failed") words = job.problem;
  return (
    <p
      className={job.state === "failed" ? "text-stop" : "text-faint italic"}
      data-testid="expectations-progress"
    >
      {words}{" "}
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

function Expected({
  one,
  history,
}: {
  one: ExpectationHeld;
  history: Schemas["ExpectationHistory"] | undefined;
}) {
  const more = [one.owner, one.severity === "error" ? "" : one.severity, ...one.tags]
    .filter(Boolean)
    .join(" · ");
  return (
    <li className="border-t border-hair py-1.5 flex gap-3" data-testid="expectation" data-state={one.state}>
      <span className="mt-1">
        <StateMark state={one.state} />
      </span>
      <div className="min-w-0">
        <p>
          <span className="font-semibold">{one.name}</span>{" "}
          {more && <span className="text-faint text-sm">{more}</span>}{" "}
          {one.place && <SourceLink place={one.place} />}
          {history && <OverRevisions of={history} />}
        </p>
        {history && <FailsSince of={history} />}
        <p className="text-faint text-[14px]">{one.words}</p>
        {one.note && <p className="text-[14px] italic">{one.note}</p>}
        <FirstOf
          first={4}
          all={one.flows}
          line={(held) => (
            <FlowLine key={`${held.flow.from} ${held.flow.to} ${held.flow.service}`} held={held} />
          )}
        />
        {one.failing_count > one.flows.length && (
          <p className="text-faint">
            {counted(one.flows.length, "flow")} of {one.failing_count} are listed.
          </p>
        )}
        <FirstOf
          first={4}
          all={one.not_survived}
          line={(failure) => (
            <li key={`${failure.kind} ${failure.name}`} className="text-[14px]">
              <span className="text-stop">does not survive</span> {KIND_WORDS[failure.kind]}{" "}
              <span className="mono">{failure.name}</span>: {failure.flows.join(", ")}
              {failure.flow_count > failure.flows.length &&
                ` and ${failure.flow_count - failure.flows.length} more`}{" "}
              <TryButton changes={[failure.change]} label="try it" />
            </li>
          )}
        />
        {one.doubts.map((doubt) => (
          <p key={doubt} className="text-stop text-[14px]">
            Not sure: {doubt}
          </p>
        ))}
      </div>
    </li>
  );
}

function FlowLine({ held }: { held: ExpectationHeld["flows"][number] }) {
  const { network } = useCurrentNetwork();
  const [search] = useSearchParams();
  const { from, to, service, enter } = held.flow;
  const there = withQuestion(new URLSearchParams(stateOf(search)), { from, to, service, enter: enter ?? "" });
  return (
    <li className="text-[14px]">
      <Link
        className="mono text-forward underline underline-offset-2"
        to={`/networks/${network.id}/flow?${there}`}
      >
        {from} &gt; {to} {service}
      </Link>{" "}
      {held.reasons.join("; ")}
    </li>
  );
}
