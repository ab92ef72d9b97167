import type { Candidate, Contest, TippingPoint } from "../api/client";
import { SourceLink } from "../source/SourceLink";
import { TryButton } from "../trials/TryButton";
import { actionText, kindText, valueText, winsBy } from "./words";

const STATE_MARKS = { winner: "M2 8.5 6.2 12.5 14 3.5", lost: "M3 8H13", out: "M4 4 12 12M12 4 4 12" };
const STATE_TONES = { winner: "text-good", lost: "text-faint", out: "text-stop" };

export function CandidateLine({
  candidate,
  contest,
  tips,
  side,
  compare,
  hold,
}: {
  candidate: Candidate;
  contest: Contest;
  tips: TippingPoint[];
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
        <Offers candidate={candidate} tips={tips} />
      </div>
    </li>
  );
}

/** Values that are shown with which a candidate wins. */
const MOST_WINS = 3;

/** What can be tried of a candidate: the nearest values with which it wins, and what takes it out. */
function Offers({ candidate, tips }: { candidate: Candidate; tips: TippingPoint[] }) {
  const wins = winsBy(candidate, tips).slice(0, MOST_WINS);
  if (wins.length === 0 && candidate.offers.length === 0) return null;
  return (
    <p className="text-sm leading-6 flex flex-wrap gap-x-3" data-testid="candidate-offers">
      {wins.map((point) => (
        <TryButton
          key={point.message}
          changes={point.change ? [point.change] : []}
          label={`wins with ${valueText(point, candidate)}`}
        />
      ))}
      {candidate.offers.map((offer) => (
        <TryButton key={offer.label} changes={[offer.change]} label={`try ${offer.label}`} />
      ))}
    </p>
  );
}

/** Two candidates in columns: their attributes, the rounds they both stood in, their sums link by link. */
export function SideBySide({
  contest,
  left,
  right,
}: {
  contest: Contest;
  left: number;
  right: number | null;
}) {
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
