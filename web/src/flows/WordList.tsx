import type { ReactNode } from "react";

/** Words that were chosen, each of which can be left out, with a box for one more. */
export function WordList({
  words,
  change,
  more,
}: {
  words: string[];
  change: (words: string[]) => void;
  /** The box in which one more is chosen. */
  more: ReactNode;
}) {
  return (
    <>
      {words.map((one) => (
        <span key={one} className="mono whitespace-nowrap">
          {one}{" "}
          <button
            type="button"
            aria-label={`leave ${one} out`}
            className="text-faint hover:text-stop"
            onClick={() => change(words.filter((other) => other !== one))}
          >
            ×
          </button>
        </span>
      ))}
      {more}
    </>
  );
}
