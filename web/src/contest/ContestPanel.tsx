import { useState } from "react";
import type { Candidate, Contest, TippingPoint } from "../api/client";
import { type InstanceKey, useContest, useTipping } from "../api/queries";
import { useCurrentNetwork } from "../frame/context";
import { SourceLink } from "../source/SourceLink";
import { Failed, Waiting } from "../ui/states";
import { actionText, inOrder, kindText, outcomeText } from "./words";

/** Why a route stands in a table, or why none does: candidates, two of them side by side, what would tip it. */
export function ContestPanel(asked: { instance: InstanceKey; prefix: string }) {
  return <Asked key={`${asked.instance.device} ${asked.instance.vrf} ${asked.prefix}`} {...asked} />;
}

function Asked({ instance, prefix: asked }: { instance: InstanceKey; prefix: string }) {
  const { revision } = useCurrentNetwork();
  // What is used instead of an absent prefix can be looked at in its place.
  const [prefix, setPrefix] = useState(asked);
  const contest = useContest(revision, instance, prefix);
  if (contest.isPending) return <Waiting what="the contest" />;
  if (contest.isError) return <Failed error={contest.error} what="This cannot be explained." />;
  return <Decided key={prefix} contest={contest.data} instance={instance} prefix={prefix} look={setPrefix} />;
}

function Decided({
  contest,
  instance,
  prefix,
  look,
}: {
  contest: Contest;
  instance: InstanceKey;
  prefix: string;
  look: (prefix: string) => void;
}) {
  const order = inOrder(contest.candidates);
  const [pair, setPair] = useState<[number, number | null]>([order[0] ?? 0, order[1] ?? null]);
  const [left, right] = pair;
  return (
    <div
      className="grid h-full grid-cols-[minmax(0,38fr)_minmax(0,34fr)_minmax(0,28fr)]"
      data-testid="contest"
    >
      <section className="overflow-auto px-4 py-2 border-r border-hair" aria-label="candidates">
        <Verdict contest={contest} look={look} />
        <ol className="mt-1">
          {order.map((index) => (
            <CandidateLine
              key={index}
              candidate={contest.candidates[index] as Candidate}
              contest={contest}
              side={index === left ? "left" : index === right ? "right" : null}
              compare={() => index !== left && setPair([left, index])}
              hold={() => setPair([index, index === right ? left : right])}
            />
          ))}
        </ol>
        <Unsent contest={contest} />
      </section>
      {contest.winner ? (
        <>
          <section
            className="overflow-auto px-4 py-2 border-r border-hair"
            aria-label="two candidates side by side"
          >
            <SideBySide contest={contest} left={left} right={right} />
          </section>
          <section className="overflow-auto px-4 py-2 bg-sheet" aria-label="what would change it">
            <TippingPoints instance={instance} prefix={prefix} />
          </section>
        </>
      ) : (
        <>
          <section className="overflow-auto px-4 py-2 border-r border-hair" aria-label="how far it came">
            <Trails contest={contest} />
          </section>
          <section className="overflow-auto px-4 py-2 bg-sheet" aria-label="two candidates side by side">
            {contest.candidates.length > 0 ? (
              <SideBySide contest={contest} left={left} right={right} />
            ) : (
              <p className="text-faint">Nobody offers this prefix here.</p>
            )}
          </section>
        </>
      )}
    </div>
  );
}

function Verdict({ contest, look }: { contest: Contest; look: (prefix: string) => void }) {
  const { winner } = contest;
  return (
    <>
      <h3>
        <span className="font-semibold">{contest.device}</span>
        {contest.vrf !== "default" && <span className="text-faint"> VRF {contest.vrf}</span>}{" "}
        <span className="mono">{contest.prefix ?? contest.asked}</span>
      </h3>
      {winner ? (
        <p data-testid="winner">
          {kindText(winner)}, <span className="mono">{actionText(winner)}</span>
        </p>
      ) : (
        <p className="text-stop" data-testid="winner">
          no route
          {contest.covered_by && (
            <>
              ;{" "}
              <button
                type="button"
                className="text-forward underline underline-offset-2"
                onClick={() => look(contest.covered_by as string)}
              >
                {contest.covered_by}
              </button>{" "}
              <span className="text-ink">is used instead</span>
            </>
          )}
        </p>
      )}
      {[contest.note, ...contest.notes].filter(Boolean).map((note) => (
        <p key={note} className="text-faint italic">
          {note}
        </p>
      ))}
    </>
  );
}

/** Paths that neighbours hold and never sent here, each with its reason. */
function Unsent({ contest }: { contest: Contest }) {
  if (contest.unsent.length === 0) return null;
  return (
    <>
      <h4 className="mt-2 text-faint">not sent by neighbors</h4>
      <ol className="text-[14px]" data-testid="unsent">
        {contest.unsent.map((one) => (
          <li
            key={`${one.neighbor} ${one.as_path} ${one.reason}`}
            className="border-t border-hair border-dashed py-0.5"
          >
            <span className="font-semibold">{one.device}</span> <span className="mono">{one.neighbor}</span>
            {one.as_path && <span className="text-faint"> AS path {one.as_path}</span>}: {one.reason}{" "}
            {one.place && <SourceLink place={one.place} />}
          </li>
        ))}
      </ol>
    </>
  );
}

const STATE_MARKS = { winner: "M2 8.5 6.2 12.5 14 3.5", lost: "M3 8H13", out: "M4 4 12 12M12 4 4 12" };
const STATE_TONES = { winner: "text-good", lost: "text-faint", out: "text-stop" };

function CandidateLine({
  candidate,
  contest,
  side,
  compare,
  hold,
}: {
  candidate: Candidate;
  contest: Contest;
  side: "left" | "right" | null;
  compare: () => void;
  hold: () => void;
}) {
  const round = candidate.lost_in === null ? null : contest.rounds[candidate.lost_in];
  return (
    <li className={`flex gap-2 py-1 border-t border-hair ${side ? "bg-mark/40" : ""}`}>
      <svg
        width="14"
        height="14"
        viewBox="0 0 16 16"
        className={`mt-1 shrink-0 ${STATE_TONES[candidate.state]}`}
        role="img"
        aria-label={candidate.state}
      >
        <title>{candidate.state}</title>
        <path d={STATE_MARKS[candidate.state]} fill="none" stroke="currentColor" strokeWidth="2" />
      </svg>
      <div className="min-w-0 flex-1">
        <button
          type="button"
          className="text-left hover:underline underline-offset-2"
          onClick={compare}
          onDoubleClick={hold}
          aria-pressed={side !== null}
          title="lay beside the first; twice: hold on the left"
        >
          <span className="font-semibold">{kindText(candidate)}</span>{" "}
          <span className="text-faint">
            {candidate.preference ?? "–"}/{candidate.metric ?? "–"}
          </span>{" "}
          {candidate.detour ? `the same by ${actionText(candidate)}` : candidate.origin}
        </button>
        {candidate.out && <p className="text-stop text-sm">{candidate.out}</p>}
        {round && (
          <p className="text-sm text-faint">
            lost in round {(candidate.lost_in ?? 0) + 1}, {round.name}
            {candidate.margin && <span className="text-ink"> {candidate.margin}</span>}
            {!round.chosen && <span className="text-return"> — a tie that nobody chose</span>}
          </p>
        )}
      </div>
    </li>
  );
}

/** Two candidates in columns: their attributes, the rounds they both stood in, their sums link by link. */
function SideBySide({ contest, left, right }: { contest: Contest; left: number; right: number | null }) {
  const numbers = right === null ? [left] : [left, right];
  const shown = numbers.map((index) => contest.candidates[index] as Candidate);
  const names = [...new Set(shown.flatMap((one) => one.attributes.map((attribute) => attribute.name)))];
  const columns =
    right === null ? "grid-cols-[7.5rem_minmax(0,1fr)]" : "grid-cols-[7.5rem_minmax(0,1fr)_minmax(0,1fr)]";
  const line = `grid ${columns} gap-x-3 border-t border-hair py-0.5`;
  const rounds = contest.rounds.filter((round) =>
    round.values.some((value) => numbers.includes(value.candidate)),
  );
  return (
    <div className="text-[14px]">
      <div className={`grid ${columns} gap-x-3 font-semibold pb-0.5`}>
        <span className="text-faint font-normal">side by side</span>
        {shown.map((one, index) => (
          <span key={numbers[index]}>{kindText(one)}</span>
        ))}
      </div>
      <div className={line}>
        <span className="text-faint">leads</span>
        {shown.map((one, index) => (
          <span key={numbers[index]} className="mono break-words">
            {actionText(one) || "–"}
          </span>
        ))}
      </div>
      {names.map((name) => (
        <div key={name} className={line}>
          <span className="text-faint">{name}</span>
          {shown.map((one, index) => (
            <span key={numbers[index]}>
              {one.attributes.find((attribute) => attribute.name === name)?.value ?? "–"}
            </span>
          ))}
        </div>
      ))}
      {rounds.map((round) => (
        <div key={`${round.scope}${round.name}${round.rule}`} className={line} title={round.rule}>
          <span className="text-faint">
            {contest.rounds.indexOf(round) + 1}. {round.name}
          </span>
          {numbers.map((index) => {
            const value = round.values.find((one) => one.candidate === index);
            const lost = round.lost.includes(index);
            return (
              <span key={index} className={lost ? "line-through decoration-stop text-faint" : ""}>
                {value?.value ?? "–"}
              </span>
            );
          })}
        </div>
      ))}
      {shown.some((one) => one.ways.length > 0) && (
        <div className={line}>
          <span className="text-faint">sum</span>
          {shown.map((one, index) => (
            <Sum key={numbers[index]} candidate={one} />
          ))}
        </div>
      )}
      <div className={line}>
        <span className="text-faint">stated in</span>
        {shown.map((one, index) => (
          <span key={numbers[index]} className="break-words">
            {one.place ? <SourceLink place={one.place} /> : "–"}
          </span>
        ))}
      </div>
    </div>
  );
}

function Sum({ candidate }: { candidate: Candidate }) {
  const way = candidate.ways[0];
  if (!way) return <span>{candidate.metric}</span>;
  return (
    <span>
      <span className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-2">
        {way.legs.map((leg, index) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: the terms of a sum have no other name
          <span key={index} className="contents">
            <span className="text-right">{leg.cost}</span>
            <span className="mono text-faint break-all">
              {leg.device ? `${leg.device}:${leg.interface}` : leg.what}
            </span>
          </span>
        ))}
        <span className="text-right border-t border-ink font-semibold">{way.total}</span>
        <span className="text-faint">
          {candidate.ways.length > 1 && `and ${candidate.ways.length - 1} more of the same`}
        </span>
      </span>
    </span>
  );
}

function TippingPoints({ instance, prefix }: { instance: InstanceKey; prefix: string }) {
  const { revision } = useCurrentNetwork();
  const tipping = useTipping(revision, instance, prefix, true);
  return (
    <>
      <h3 className="font-semibold">tipping points</h3>
      {tipping.isPending && <p className="text-faint italic">trying values …</p>}
      {tipping.isError && <Failed error={tipping.error} what="The values cannot be tried." />}
      {tipping.data?.length === 0 && (
        <p className="text-faint">No single cost, metric or preference would change this route.</p>
      )}
      <ol data-testid="tipping">
        {tipping.data?.map((point) => (
          <TippingLine key={`${point.message}`} point={point} />
        ))}
      </ol>
    </>
  );
}

function TippingLine({ point }: { point: TippingPoint }) {
  return (
    <li className="border-t border-hair py-1 text-[14px]">
      <p>
        {point.what} on <span className="mono">{point.device}</span>, now {point.now}: moves at{" "}
        <span className="font-semibold">{point.value}</span> and {point.direction}
      </p>
      <p className="text-faint">
        then {outcomeText(point.becomes)}
        {point.beyond && <>; further on {outcomeText(point.beyond)}</>}
      </p>
    </li>
  );
}

/** How far an absent prefix came from each origin, and what stopped it. */
function Trails({ contest }: { contest: Contest }) {
  if (contest.trails.length === 0)
    return <p className="text-faint">{contest.note || "No device announces it."}</p>;
  return (
    <>
      <h3 className="font-semibold">how far it came</h3>
      {contest.trails.map((trail, number) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: trails have no other name
        <ol key={number} className="border-t border-hair py-1 text-[14px]" data-testid="trail">
          {trail.map((step) => (
            <li key={`${step.device}${step.message}`} className="flex gap-2">
              <svg
                width="13"
                height="13"
                viewBox="0 0 16 16"
                className={`mt-1 shrink-0 ${step.stopped ? "text-stop" : "text-good"}`}
                role="img"
                aria-label={step.stopped ? "stopped" : "went on"}
              >
                <title>{step.stopped ? "stopped" : "went on"}</title>
                <path
                  d={step.stopped ? "M4 4 12 12M12 4 4 12" : "M8 2V13M4 9 8 13 12 9"}
                  fill="none"
                  stroke="currentColor"
                  strokeWidth="2"
                />
              </svg>
              <span>
                {step.message} {step.place && <SourceLink place={step.place} />}
                {step.other_places.map((place) => (
                  <span key={`${place.file}:${place.line}:${place.column}`}>
                    {" "}
                    <SourceLink place={place} />
                  </span>
                ))}
              </span>
            </li>
          ))}
        </ol>
      ))}
    </>
  );
}
