import type { Contest } from "../api/client";
import { SourceLink } from "../source/SourceLink";

/** Paths that neighbours hold and never sent here, each with its reason. */
export function Unsent({ contest }: { contest: Contest }) {
  if (contest.unsent.length === 0) return null;
  return (
    <>
      <h4 className="mt-2 text-faint">not sent by neighbors</h4>
      <ol className="text-[14px]" data-testid="unsent">
        {contest.unsent.map((one) => (
          <li
            key={`${one.neighbor} ${one.as_path} ${one.reason}`}
            className="border-t border-hair border-dashed py-0.5"
          >
            <span className="font-semibold">{one.device}</span> <span className="mono">{one.neighbor}</span>
            {one.as_path && <span className="text-faint"> AS path {one.as_path}</span>}: {one.reason}{" "}
            {one.place && <SourceLink place={one.place} />}
          </li>
        ))}
      </ol>
    </>
  );
}

/** How far an absent prefix came from each origin, and what stopped it. */
export function Trails({ contest }: { contest: Contest }) {
  if (contest.trails.length === 0)
    return <p className="text-faint">{contest.note || "No device announces it."}</p>;
  return (
    <>
      <h3 className="font-semibold">how far it came</h3>
      {contest.trails.map((trail, number) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: trails have no other name
        <ol key={number} className="border-t border-hair py-1 text-[14px]" data-testid="trail">
          {trail.map((step) => (
            <li key={`${step.device}${step.message}`} className="flex gap-2">
              <svg
                width="13"
                height="13"
                viewBox="0 0 16 16"
                className={`mt-1 shrink-0 ${step.stopped ? "text-stop" : "text-good"}`}
                role="img"
                aria-label={step.stopped ? "stopped" : "went on"}
              >
                <title>{step.stopped ? "stopped" : "went on"}</title>
                <path
                  d={step.stopped ? "M4 4 12 12M12 4 4 12" : "M8 2V13M4 9 8 13 12 9"}
                  fill="none"
                  stroke="currentColor"
                  strokeWidth="2"
                />
              </svg>
              <span>
                {step.message} {step.place && <SourceLink place={step.place} />}
                {step.other_places.map((place) => (
                  <span key={`${place.file}:${place.line}:${place.column}`}>
                    {" "}
                    <SourceLink place={place} />
                  </span>
                ))}
              </span>
            </li>
          ))}
        </ol>
      ))}
    </>
  );
}
