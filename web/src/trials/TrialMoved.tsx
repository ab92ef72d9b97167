import { Link, useSearchParams } from "react-router";
import { asItIs, useMoved, useWalk } from "../api/answers";
import type { FlowChange, Walk } from "../api/client";
import { isOtherWay } from "../flows/ladder";
import { questionOf, withQuestion } from "../flows/sentence";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { RouteLine } from "../routes/RouteLine";
import { Alert } from "../ui/Alert";
import { FirstOf } from "../ui/FirstOf";
import { VERDICT_WORDS } from "../ui/marks";
import { counted } from "../ui/words";
import { TrialExpected } from "./TrialExpected";
import { TrialHeld } from "./TrialHeld";

const outcome = (walk: Walk) =>
  `${VERDICT_WORDS[walk.forward.verdict]}${walk.return ? `, answer ${VERDICT_WORDS[walk.return.verdict]}` : ""}`;

/** What a trial moves: the flow that is asked, what was asked before, routes. */
export function TrialMoved() {
  const { revision } = useCurrentNetwork();
  const [search] = useSearchParams();
  const question = questionOf(search);
  const before = useWalk(asItIs(revision), question);
  const after = useWalk(revision, question);
  const moved = useMoved(revision);
  const [was, is] = [before.data && outcome(before.data), after.data && outcome(after.data)];
  const isMoved =
    before.data &&
    after.data &&
    (isOtherWay(before.data.forward, after.data.forward) ||
      (before.data.return !== null && isOtherWay(before.data.return, after.data.return)));
  const others = moved.data?.flows.filter((flow) => flow.changed) ?? [];
  return (
    <section className="px-3 py-2 border-b border-hair" aria-label="what moved" data-testid="moved">
      {question.from && question.to && was && is && (
        <p data-testid="asked-flow">
          <span className="text-faint">this flow:</span>{" "}
          {was === is ? (
            `${is}, ${isMoved ? "by another way" : "as before"}`
          ) : (
            <>
              {was} → <span className="font-semibold">{is}</span>
            </>
          )}
        </p>
      )}
      <TrialExpected />
      <TrialHeld />
      {moved.isPending && <p className="text-faint italic">working out what moves …</p>}
      {moved.error && <Alert>{moved.error.message}</Alert>}
      {moved.data && (
        <>
          <h3 className="font-semibold mt-1">
            {others.length} of {counted(moved.data.flows.length, "flow")} asked before
            {others.length === 1 ? " moves" : " move"}
          </h3>
          <ul>
            {others.map((flow) => (
              <MovedFlow key={`${flow.flow.from} ${flow.flow.to} ${flow.flow.service}`} flow={flow} />
            ))}
          </ul>
          <h3 className="font-semibold mt-2">
            {moved.data.routes_changed === 0
              ? "No route moves"
              : `${counted(moved.data.routes_changed, "route")} ${moved.data.routes_changed === 1 ? "moves" : "move"}`}
          </h3>
          <FirstOf
            first={12}
            all={moved.data.routes}
            line={(change) => (
              <RouteLine key={`${change.device} ${change.vrf} ${change.prefix}`} change={change} />
            )}
          />
          {moved.data.routes_changed > moved.data.routes.length && (
            <p className="text-faint">
              The first {moved.data.routes.length.toLocaleString("en")} are listed.
            </p>
          )}
        </>
      )}
    </section>
  );
}

function MovedFlow({ flow }: { flow: FlowChange }) {
  const [search] = useSearchParams();
  const { from, to, service, enter } = flow.flow;
  const there = withQuestion(new URLSearchParams(stateOf(search)), { from, to, service, enter: enter ?? "" });
  const { network } = useCurrentNetwork();
  return (
    <li className="border-t border-hair/70 py-0.5">
      <Link
        className="mono text-forward underline underline-offset-2"
        to={`/networks/${network.id}/flow?${there}`}
      >
        {from} &gt; {to} {service}
      </Link>
      <span className="block text-[13px] text-faint">
        {flow.before === flow.after ? `${flow.after}, by another way` : `${flow.before} → ${flow.after}`}
      </span>
    </li>
  );
}
