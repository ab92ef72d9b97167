import type { Schemas } from "../api/client";
import { TryButton } from "../trials/TryButton";
import { FirstOf } from "../ui/FirstOf";
import { KIND_WORDS } from "./words";

const COLUMNS = [
  ["loops", "goes round"],
  ["breaks", "fails"],
  ["exit", "other exit"],
  ["longer", "longer way"],
  ["moves", "other way"],
] as const;

/** Failures and how many expected flows each hurts, the worst first; what hurts none is counted. */
export function FailureList({ held }: { held: Schemas["ExpectationsHeld"] }) {
  const { failures, failures_tried, harmless } = held;
  return (
    <div data-testid="failures">
      <p className="text-faint">
        {harmless} of {failures_tried} hurt nothing that is expected.
      </p>
      {failures.length > 0 && (
        <div className="grid grid-cols-[minmax(12rem,1.3fr)_repeat(5,minmax(3.5rem,0.35fr))_minmax(12rem,2fr)] gap-x-3 text-faint border-b border-hair">
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
            key={`${one.kind} ${one.name}`}
            className="grid grid-cols-[minmax(12rem,1.3fr)_repeat(5,minmax(3.5rem,0.35fr))_minmax(12rem,2fr)] gap-x-3 border-t border-hair/70 py-0.5"
          >
            <span>
              {KIND_WORDS[one.kind]} <span className="mono">{one.name}</span>{" "}
              <TryButton changes={[one.change]} label="try it" />
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
