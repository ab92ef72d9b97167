import { useState } from "react";
import { Link } from "react-router";
import { useTurned } from "../api/answers";
import type { Schemas } from "../api/client";
import { besideText } from "../flows/besides";
import { useCurrentNetwork } from "../frame/context";
import { SourceLink } from "../source/SourceLink";
import { Alert } from "../ui/Alert";
import { StateMark } from "./StateMark";

type OverRevisions = Schemas["ExpectationHistory"];

/** So many revisions are shown, the last ones. */
const MOST_SHOWN = 16;

/** An expectation over the revisions it was held in: since when it fails, and what made it. */
export function History({ of }: { of: OverRevisions }) {
  const { network } = useCurrentNetwork();
  const [asked, setAsked] = useState(false);
  const { revisions, fails_since, held_until } = of;
  if (revisions.length < 2 && fails_since === null) return null;
  return (
    <div className="text-[14px]" data-testid="history">
      <span className="inline-flex items-center gap-1 align-middle">
        <span className="text-faint mr-1">by revision</span>
        {revisions.slice(-MOST_SHOWN).map((one) => (
          <Link
            key={one.revision}
            to={`/networks/${network.id}/model/expected?revision=${one.revision}`}
            className="inline-flex items-center px-0.5 hover:bg-hair"
          >
            <StateMark
              state={one.state}
              size={11}
              title={`revision ${one.revision} ${one.state}${one.words ? `: ${one.words}` : ""}`}
            />
          </Link>
        ))}
      </span>
      {fails_since !== null && (
        <span className="ml-3">
          fails since revision {fails_since}
          {held_until === null ? ", the first it was held in" : ""}
        </span>
      )}
      {fails_since !== null && held_until !== null && (
        <button type="button" className="ml-2 underline underline-offset-2" onClick={() => setAsked(!asked)}>
          what made it fail
        </button>
      )}
      {asked && fails_since !== null && held_until !== null && (
        <WhatTurned name={of.name} since={held_until} at={fails_since} />
      )}
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
