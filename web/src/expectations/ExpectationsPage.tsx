import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { useExpectations } from "../api/answers";
import type { ExpectationHeld, Schemas } from "../api/client";
import { SURVIVED, useExpectationHistory, useFailuresJob } from "../api/jobs";
import { withQuestion } from "../flows/sentence";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { SourceLink } from "../source/SourceLink";
import { TryButton } from "../trials/TryButton";
import { FirstOf } from "../ui/FirstOf";
import { Key } from "../ui/Key";
import { Empty, Failed, Waiting } from "../ui/states";
import { useKeys } from "../ui/useKeys";
import { counted } from "../ui/words";
import { ExpectationEditor } from "./ExpectationEditor";
import { editable, NEW_ENTRY } from "./entry";
import { FailsSince, OverRevisions } from "./History";
import { JobProgress } from "./JobProgress";
import { Leaning } from "./Leaning";
import { StateMark } from "./StateMark";
import { UnderFailures } from "./UnderFailures";
import { KIND_WORDS } from "./words";

/** What is expected of the network, whether it holds, and what failures do to it. */
export default function ExpectationsPage() {
  const { network, revision } = useCurrentNetwork();
  const [onlyFailing, setOnlyFailing] = useState(false);
  const [isNew, setNew] = useState(false);
  const asIs = useExpectations(revision);
  const { job, error: jobError, stop, again } = useFailuresJob(revision, SURVIVED);
  const history = useExpectationHistory(network.id, job?.state);
  const held = job?.held ?? asIs.data;
  useKeys({ a: () => setOnlyFailing(!onlyFailing), n: () => setNew(true) });
  const error = jobError ?? asIs.error;
  if (error) return <Failed error={error} what="What is expected cannot be shown." />;
  if (!held) return <Waiting what="what is expected" />;
  if (held.expectations.length === 0)
    return (
      <div className="h-full overflow-auto px-6 pt-4">
        <Empty title="Nothing is expected of this network yet.">
          What must stay true is written in expectations.yaml of its folder: a list such as{" "}
          <span className="mono">- {"{name: the shop is open, from: office, to: shop, on: tcp/443}"}</span>,
          or here as a sentence:
        </Empty>
        <ExpectationEditor entry={NEW_ENTRY} close={() => {}} />
      </div>
    );
  const shown = held.expectations.filter((one) => !onlyFailing || one.state !== "holds");
  return (
    <div className="h-full overflow-auto px-6 pt-4" data-testid="expectations">
      <div className="flex flex-wrap items-baseline gap-x-4 pb-2">
        <h2 className="text-lg">What is expected</h2>
        <p data-testid="expectations-words">{held.words}</p>
        {job && <JobProgress job={job} stop={stop} again={again} />}
        <button
          type="button"
          aria-expanded={isNew}
          className="ml-auto text-faint hover:text-ink"
          onClick={() => setNew(!isNew)}
        >
          expect something new <Key>n</Key>
        </button>
        <button
          type="button"
          aria-pressed={onlyFailing}
          className="text-faint hover:text-ink"
          onClick={() => setOnlyFailing(!onlyFailing)}
        >
          {onlyFailing ? "show all" : "only what does not hold"} <Key>a</Key>
        </button>
      </div>
      {isNew && <ExpectationEditor entry={NEW_ENTRY} close={() => setNew(false)} />}
      <ol>
        {shown.map((one) => (
          <Expected key={one.name} one={one} history={history.data?.find(({ name }) => name === one.name)} />
        ))}
      </ol>
      <UnderFailures />
    </div>
  );
}

function Expected({
  one,
  history,
}: {
  one: ExpectationHeld;
  history: Schemas["ExpectationHistory"] | undefined;
}) {
  const [isLeaning, setLeaning] = useState(false);
  const [isEdited, setEdited] = useState(false);
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
          <button
            type="button"
            aria-expanded={isLeaning}
            className="ml-4 text-faint text-sm underline underline-offset-2 hover:text-ink"
            onClick={() => setLeaning(!isLeaning)}
          >
            what it leans on
          </button>
          <button
            type="button"
            aria-expanded={isEdited}
            className="ml-4 text-faint text-sm underline underline-offset-2 hover:text-ink"
            onClick={() => setEdited(!isEdited)}
          >
            change it
          </button>
        </p>
        {isEdited && (
          <ExpectationEditor name={one.name} entry={editable(one.entry)} close={() => setEdited(false)} />
        )}
        {isLeaning && <Leaning name={one.name} />}
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
