import type { Schemas } from "../api/client";
import { TryButton } from "../trials/TryButton";
import { FirstOf } from "../ui/FirstOf";
import { KIND_WORDS } from "./words";

const COLUMNS = [
  ["loops", "goes round"],
  ["breaks", "fails"],
  ["single", "single way"],
  ["exit", "other exit"],
  ["longer", "longer way"],
  ["moves", "other way"],
] as const;

/** Failures and how many expected flows each hurts, the worst first; what hurts none is counted. */
export function FailureList({ held, isTwo }: { held: Schemas["ExpectationsHeld"]; isTwo: boolean }) {
  const { failures, failures_tried, harmless, ruled_out } = held;
  return (
    <div data-testid="failures">
      <p className="text-faint">
        {harmless.toLocaleString("en")} of {failures_tried.toLocaleString("en")}{" "}
        {isTwo ? "do nothing that neither does alone." : "hurt nothing that is expected."}
        {ruled_out > 0 &&
          ` ${ruled_out.toLocaleString("en")} ${ruled_out === 1 ? "touches" : "touch"} no way or route in use.`}
      </p>
      {failures.length > 0 && (
        <div className="grid grid-cols-[minmax(12rem,1.3fr)_repeat(6,minmax(3.5rem,0.35fr))_minmax(12rem,2fr)] gap-x-3 text-faint border-b border-hair">
          <span>without</span>
          {COLUMNS.map(([name, title]) => (
            <span key={name} className="text-right">
              {title}
            </span>
          ))}
          <span>no longer holds</span>
        </div>
      )}
      <FirstOf
        first={30}
        all={failures}
        line={(one) => (
          <li
            key={`${one.kind} ${one.name} ${one.second?.kind} ${one.second?.name}`}
            className="grid grid-cols-[minmax(12rem,1.3fr)_repeat(6,minmax(3.5rem,0.35fr))_minmax(12rem,2fr)] gap-x-3 border-t border-hair/70 py-0.5"
          >
            <span>
              {KIND_WORDS[one.kind]} <span className="mono">{one.name}</span>{" "}
              {one.second && (
                <>
                  and {KIND_WORDS[one.second.kind]} <span className="mono">{one.second.name}</span>{" "}
                </>
              )}
              <TryButton
                changes={one.second ? [one.change, one.second.change] : [one.change]}
                label="try it"
              />
            </span>
            {COLUMNS.map(([name, title]) => (
              <span
                key={name}
                title={title}
                className={`text-right ${one[name] === 0 ? "text-faint" : name === "loops" || name === "breaks" ? "text-stop font-semibold" : ""}`}
              >
                {one[name] || "–"}
              </span>
            ))}
            <span className="text-[14px]">{one.expectations.join(", ")}</span>
          </li>
        )}
      />
    </div>
  );
}
