import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { Question } from "../api/answers";
import { useFindings } from "../api/answers";
import type { Change, Strand, Walk } from "../api/client";
import { useCurrentNetwork } from "../frame/context";
import { TryButton } from "../trials/TryButton";
import { Key } from "../ui/Key";
import { type Direction, tone, VERDICT_WORDS, VerdictMark, verdictTone } from "../ui/marks";
import { useTimes } from "../ui/times";
import { useKeys } from "../ui/useKeys";
import { Star } from "./AskedBefore";
import { answerText } from "./answerText";
import { parseBeside, withBesides } from "./besides";
import { questionOf } from "./sentence";

export function AnswerHead({ walk }: { walk: Walk }) {
  const { network, revision, takenAt } = useCurrentNetwork();
  const findings = useFindings(revision);
  const [search] = useSearchParams();
  const shownTime = useTimes();
  const navigate = useNavigate();
  const [copied, setCopied] = useState(false);
  const near = (findings.data ?? []).filter(
    (finding) =>
      finding.severity !== "note" &&
      [...walk.forward.stops, ...(walk.return?.stops ?? [])].some((stop) => stop.device === finding.device),
  );

  async function copy() {
    const time = revision.moment ?? takenAt;
    const asOf = time ? shownTime(time) : `revision ${revision.number}`;
    await navigator.clipboard.writeText(answerText(walk, network.name, asOf, window.location.href));
    setCopied(true);
    setTimeout(() => setCopied(false), 1500);
  }
  const rows = search.getAll("row").map(parseBeside);
  const beside = withBesides(search, [
    { question: questionOf(search), revision: null },
    ...rows.filter((one) => typeof one !== "string"),
  ]);
  useKeys({ c: copy, w: () => navigate(`../flow/beside?${beside}`, { relative: "path" }) });

  return (
    <div className="px-4 py-1.5 border-b border-hair" data-testid="answer">
      <div className="grid grid-cols-2 gap-6 items-baseline">
        <StrandHead direction="forward" strand={walk.forward} />
        {walk.return ? (
          <StrandHead direction="return" strand={walk.return} />
        ) : (
          <p className={tone("return")}>return: not known</p>
        )}
      </div>
      <p className="text-sm text-faint flex flex-wrap gap-x-4 [&>*]:whitespace-nowrap">
        <button type="button" onClick={copy} className="hover:text-ink">
          {copied ? "copied" : "copy as text"} <Key>c</Key>
        </button>
        <span>
          next stop <Key>j</Key> previous <Key>u</Key>
        </span>
        <Link to={`../flow/beside?${beside}`} relative="path" className="hover:text-ink">
          {rows.length > 0 ? "beside the others" : "beside another"} <Key>w</Key>
        </Link>
        <Star question={questionOf(search)} />
        <span>
          <TryButton changes={[expectationOf(walk, questionOf(search))]} label="expect this" keyName="E" />
        </span>
        {near.length > 0 && (
          <span title={near.map((finding) => finding.message).join("\n")}>
            {near.length} problem{near.length === 1 ? "" : "s"} on devices of this answer
          </span>
        )}
      </p>
    </div>
  );
}

/** What an answer is, expected to stay so: a line of the network's expectations, made in a trial. */
function expectationOf(walk: Walk, { from, to, service, enter }: Question): Change {
  const arrives = walk.forward.verdict === "arrives" || walk.forward.verdict === "leaves";
  const expect = walk.good ? {} : { expect: arrives ? "arrives" : "never arrives" };
  const on = service || "icmp";
  const entry = { from, to, ...(on === "icmp" ? {} : { on }), ...(enter ? { enter } : {}), ...expect };
  return { add: "expectation", at: `${from} > ${to} ${on}`, entry };
}

function StrandHead({ direction, strand }: { direction: Direction; strand: Strand }) {
  const shrinks = strand.mtu?.shrinks_at[0];
  return (
    <p data-testid={`verdict-${direction}`} data-verdict={strand.verdict}>
      <span className={`font-semibold ${tone(direction)}`}>{direction}</span>{" "}
      <span className={`font-semibold [&>svg]:mr-1 [&>svg]:-mt-0.5 ${verdictTone(strand.verdict)}`}>
        <VerdictMark verdict={strand.verdict} size={14} />
        {VERDICT_WORDS[strand.verdict]}
      </span>
      <span className="text-faint">
        {" "}
        · {strand.path_count} way{strand.path_count === 1 ? "" : "s"}
        {strand.mtu && (
          <>
            {" "}
            · packets to <span className="text-ink">{strand.mtu.largest_packet}</span> bytes
            {shrinks && (
              <span className="text-stop">
                , shrinks at {shrinks.device}:{shrinks.interface}
              </span>
            )}
          </>
        )}
      </span>
    </p>
  );
}
