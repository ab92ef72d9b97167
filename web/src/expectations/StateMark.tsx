import type { ExpectationHeld } from "../api/client";

const MARKS = {
  holds: "M2 8.5 6.2 12.5 14 3.5",
  fails: "M4 4 12 12M12 4 4 12",
  refused: "M5 5.2A3 3 0 1 1 8 8.5V10M8 12.8V13.3",
};
const TONES = { holds: "text-good", fails: "text-stop", refused: "text-return" };

/** Whether an expectation holds, as a mark. */
export function StateMark({
  state,
  title = state,
  size = 16,
}: {
  state: ExpectationHeld["state"];
  title?: string;
  size?: number;
}) {
  return (
    <svg
      width={size}
      height={size}
      viewBox="0 0 16 16"
      className={`shrink-0 ${TONES[state]}`}
      role="img"
      aria-label={title}
    >
      <title>{title}</title>
      <path d={MARKS[state]} fill="none" stroke="currentColor" strokeWidth="2" />
    </svg>
  );
}
