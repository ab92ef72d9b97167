import { useState } from "react";
import { asItIs, type InstanceKey, useContest, useTipping } from "../api/answers";
import type { Candidate, Contest } from "../api/client";
import { useCurrentNetwork } from "../frame/context";
import { RouteOverTime } from "../history/RouteOverTime";
import { Failed, Waiting } from "../ui/states";
import { CandidateLine, SideBySide } from "./Candidates";
import { TippingPoints } from "./TippingPoints";
import { Trails, Unsent } from "./Trails";
import { actionText, inOrder, kindText } from "./words";

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
  const { revision } = useCurrentNetwork();
  const tipping = useTipping(revision, instance, prefix, contest.winner !== null);
  const order = inOrder(contest.candidates);
  const [pair, setPair] = useState<[number, number | null]>([order[0] ?? 0, order[1] ?? null]);
  const [left, right] = pair;
  return (
    <div
      className="grid h-full max-lg:grid-cols-[minmax(0,1fr)] lg:grid-cols-[minmax(0,38fr)_minmax(0,34fr)_minmax(0,28fr)] max-lg:overflow-auto"
      data-testid="contest"
    >
      <section className="overflow-auto px-4 py-2 border-r border-hair" aria-label="candidates">
        <Verdict contest={contest} look={look} />
        <WithoutTrial contest={contest} instance={instance} prefix={prefix} />
        <ol className="mt-1">
          {order.map((index) => (
            <CandidateLine
              key={index}
              candidate={contest.candidates[index] as Candidate}
              contest={contest}
              tips={tipping.data ?? []}
              side={index === left ? "left" : index === right ? "right" : null}
              compare={() => index !== left && setPair([left, index])}
              hold={() => setPair([index, index === right ? left : right])}
            />
          ))}
        </ol>
        <Unsent contest={contest} />
        <RouteOverTime instance={instance} prefix={prefix} />
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

/** What the contest comes to without the trial that is looked at, where that is another. */
function WithoutTrial({
  contest,
  instance,
  prefix,
}: {
  contest: Contest;
  instance: InstanceKey;
  prefix: string;
}) {
  const { revision } = useCurrentNetwork();
  const before = useContest(asItIs(revision), instance, revision.trial ? prefix : "");
  if (!revision.trial || !before.data) return null;
  const words = ({ winner, covered_by }: Contest) =>
    winner
      ? `${kindText(winner)} ${winner.preference ?? "–"}/${winner.metric ?? "–"}, ${actionText(winner)}`
      : `no route${covered_by ? `, ${covered_by} used instead` : ""}`;
  const last = before.data.rounds.at(-1);
  const [was, is] = [words(before.data), words(contest)];
  return (
    <p className="text-faint text-sm" data-testid="without-trial">
      without the trial: {was === is ? "the same" : was}
      {was !== is && last && `, decided in ${last.name}`}
    </p>
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
