import { useState } from "react";
import { Link } from "react-router";
import { useTurned } from "../api/answers";
import type { Schemas } from "../api/client";
import { besideText } from "../flows/besides";
import { useCurrentNetwork } from "../frame/context";
import { SourceLink } from "../source/SourceLink";
import { Alert } from "../ui/Alert";
import { StateMark } from "./StateMark";

type Over = Schemas["ExpectationHistory"];

/** So many revisions are shown, the last ones. */
const MOST_SHOWN = 16;

/** Whether an expectation held in each revision, as a row of marks. */
export function OverRevisions({ of }: { of: Over }) {
  const { network } = useCurrentNetwork();
  if (of.revisions.length < 2) return null;
  return (
    <span className="inline-flex items-center align-middle ml-4" data-testid="history">
      {of.revisions.slice(-MOST_SHOWN).map((one) => {
        const title = `revision ${one.revision} ${one.state}${one.words ? `: ${one.words}` : ""}`;
        return (
          <Link
            key={one.revision}
            to={`/networks/${network.id}/expect?revision=${one.revision}`}
            className="inline-flex items-center px-0.5 hover:bg-hair"
          >
            <StateMark state={one.state} size={11} title={title} />
          </Link>
        );
      })}
    </span>
  );
}

/** Since when an expectation fails that held before, and what made it. */
export function FailsSince({ of }: { of: Over }) {
  const [asked, setAsked] = useState(false);
  const { fails_since, held_until } = of;
  if (fails_since === null || held_until === null) return null;
  return (
    <div className="text-[14px]">
      fails since revision {fails_since}{" "}
      <button
        type="button"
        aria-expanded={asked}
        className="ml-2 underline underline-offset-2"
        onClick={() => setAsked(!asked)}
      >
        what made it fail
      </button>
      {asked && <WhatTurned name={of.name} since={held_until} at={fails_since} />}
    </div>
  );
}

/** The differences between two revisions which, taken back alone, make an expectation hold again. */
function WhatTurned({ name, since, at }: { name: string; since: number; at: number }) {
  const { network } = useCurrentNetwork();
  const found = useTurned({ networkId: network.id, number: at }, since, name);
  if (found.error) return <Alert>{found.error.message}</Alert>;
  if (!found.data) return <p className="text-faint italic">taking back one difference after the other …</p>;
  const { words, flow, reasons, by } = found.data;
  const question = flow && { from: flow.from, to: flow.to, service: flow.service, enter: flow.enter ?? "" };
  const beside = new URLSearchParams();
  if (question) {
    beside.append("ask", besideText({ question, revision: since }));
    beside.append("ask", besideText({ question, revision: at }));
  }
  return (
    <div className="border-l-2 border-hair pl-3 my-1" data-testid="turned">
      {reasons.length > 0 && <p>{reasons.join("; ")}</p>}
      <p className="text-faint">{words}:</p>
      <ul>
        {by.map((one) => (
          <li key={one.words}>
            <span className="font-semibold">{one.words}</span>{" "}
            {one.after && <SourceLink place={one.after} revision={at} />}{" "}
            {one.before && (
              <>
                <span className="text-faint">before</span> <SourceLink place={one.before} revision={since} />
              </>
            )}
          </li>
        ))}
      </ul>
      {question && (
        <Link
          className="text-forward underline underline-offset-2"
          to={`/networks/${network.id}/flow/beside?revision=${at}&${beside}`}
        >
          both ways side by side
        </Link>
      )}
    </div>
  );
}
