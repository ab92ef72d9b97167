import type { Cause } from "../api/client";
import { SourceLink } from "../source/SourceLink";
import { TryButton } from "../trials/TryButton";
import type { Direction } from "../ui/marks";
import { RankedRemedies } from "./RankedRemedies";

/** What stops the flow, opened by itself: the entry and its source line, near misses, and the remedy. */
export function CauseNote({
  cause,
  direction,
  keyName,
}: {
  cause: Cause;
  direction: Direction;
  /** The key that tries its remedy, where it is the first of an answer. */
  keyName?: string | undefined;
}) {
  return (
    <div
      className="settle border-l-2 border-stop pl-2.5 py-0.5 text-[14px] leading-snug"
      data-testid={`cause-${direction}`}
    >
      <p>
        {cause.message} {cause.place && <SourceLink place={cause.place} />}
      </p>
      {cause.near_misses.slice(0, 3).map((miss) => (
        <p key={`${miss.entry}${miss.field}`} className="text-faint">
          {cause.chain ? "rule" : "entry"} {miss.entry} fits but for its {miss.field.replace("_", " ")}:{" "}
          <span className="mono">{miss.has}</span>, not <span className="mono">{miss.needs}</span>{" "}
          {miss.place && <SourceLink place={miss.place} />}{" "}
          {miss.change && <TryButton changes={[miss.change]} label="try it mended" />}
        </p>
      ))}
      {cause.trail.map((end) => (
        <p key={end.message} className="text-faint">
          the route: {end.message} {end.place && <SourceLink place={end.place} />}
        </p>
      ))}
      {cause.remedy && (
        <p className="mt-0.5">
          <span className="text-good font-semibold">remedy</span> {cause.remedy.message}
          {cause.remedy.changes.length > 0 && (
            <>
              {" "}
              <TryButton changes={cause.remedy.changes} label="try it" keyName={keyName} />
            </>
          )}
          :
          <code className="block bg-sheet border border-hair px-1.5 py-0.5 mt-0.5 break-words whitespace-pre-wrap text-[12px]">
            {cause.remedy.text}
          </code>
        </p>
      )}
      {keyName && <RankedRemedies />}
      {cause.notes.map((note) => (
        <p key={note} className="text-faint italic">
          not represented here: {note}
        </p>
      ))}
    </div>
  );
}
