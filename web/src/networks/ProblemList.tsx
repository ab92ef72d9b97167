import type { InputProblem } from "../api/client";

/** The errors of a load, each with its place; choosing one shows it in the text. */
export function ProblemList({
  problems,
  choose,
}: {
  problems: InputProblem[];
  choose: (problem: InputProblem) => void;
}) {
  return (
    <ol className="max-h-56 overflow-auto">
      {problems.map((problem) => (
        <li
          key={`${problem.file}:${problem.line}:${problem.column}:${problem.message}`}
          className="border-t border-hair"
        >
          <button
            type="button"
            className="text-left w-full py-1.5 hover:bg-wash"
            onClick={() => choose(problem)}
          >
            <span className="mono text-faint">
              {problem.file}:{problem.line}:{problem.column}
            </span>{" "}
            {problem.message}
            {problem.found && (
              <>
                ; found <span className="mono">{problem.found}</span>
              </>
            )}
            {problem.nearest && (
              <>
                ; did you mean <span className="mono text-good">{problem.nearest}</span>?
              </>
            )}
            {problem.allowed && <span className="block text-faint text-sm">allowed: {problem.allowed}</span>}
          </button>
        </li>
      ))}
    </ol>
  );
}
