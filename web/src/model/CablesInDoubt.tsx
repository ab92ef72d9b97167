import { useState } from "react";
import type { components } from "../api/schema.gen";
import { useCurrentNetwork } from "../frame/context";
import { SourceLink } from "../source/SourceLink";
import { useTry } from "../trials/useTry";
import { Key } from "../ui/Key";
import { useKeys } from "../ui/useKeys";
import { useStepper } from "../ui/useStepper";

type OpenEnd = components["schemas"]["OpenEnd"];

/** Subnets for two of which nobody says who is cabled to whom, each answered by a key: the answer is a link of the trial. */
export function CablesInDoubt({ ends }: { ends: OpenEnd[] }) {
  const { revision } = useCurrentNetwork();
  const { tryOut, isBusy, error } = useTry();
  const [at, setAt] = useState(0);
  const all = ends.flatMap((end) => end.offers);
  // An answer takes the rest of its subnet's along: the next stands where they stood.
  const current = all[Math.min(at, all.length - 1)];
  useStepper(
    all,
    (offer) => offer === current,
    (_, next) => setAt(next),
  );
  const answer = (offer = current) => offer && !isBusy && tryOut([offer.change]);
  useKeys({ y: () => answer() });
  return (
    <section aria-labelledby="doubt-title" data-testid="cables-in-doubt">
      <h3 id="doubt-title" className="font-semibold">
        Cables in doubt
      </h3>
      <p className="text-faint">
        next <Key>j</Key> previous <Key>u</Key> cabled so <Key>y</Key>
        {revision.trial
          ? ` · the answers are links of trial ${revision.trial.number}`
          : " · an answer is a link, tried first"}
      </p>
      <ul>
        {ends.map((end) => (
          <li key={`${end.device} ${end.what}`} className="border-t border-hair py-1">
            <p className="flex gap-3 items-baseline">
              <span className="min-w-0">
                <span className="mono">{end.device}</span> {end.what}
              </span>
              <span className="ml-auto whitespace-nowrap">
                {end.place && <SourceLink place={end.place} />}
              </span>
            </p>
            <p className="flex flex-wrap gap-x-2 gap-y-1">
              {end.offers.map((offer) => (
                <button
                  key={offer.label}
                  type="button"
                  disabled={isBusy}
                  aria-current={offer === current}
                  onClick={() => answer(offer)}
                  className={`mono px-2 py-1 text-good disabled:text-faint ${
                    offer === current ? "bg-mark" : "underline underline-offset-2"
                  }`}
                >
                  {offer.label}
                </button>
              ))}
            </p>
          </li>
        ))}
      </ul>
      {error && (
        <p role="alert" className="text-stop">
          {error.message}
        </p>
      )}
    </section>
  );
}
