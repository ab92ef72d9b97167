import { useState } from "react";
import { type Unusual, useGauge } from "../api/history";
import { useCurrentNetwork } from "../frame/context";
import { GaugeChart } from "./GaugeChart";
import { isSame } from "./gauges";
import type { Span } from "./strip";

/** What was unusual in the last day, each with its course over time. */
export function UnusualList({ unusual, span }: { unusual: Unusual[]; span: Span }) {
  const { network, revision } = useCurrentNetwork();
  const [chosen, choose] = useState<Unusual>();
  const gauge = useGauge({ networkId: network.id, number: revision.number }, chosen, span);
  if (!unusual.length) return null;
  return (
    <section aria-labelledby="unusual-title" className="mb-6" data-testid="unusual">
      <h2 id="unusual-title" className="text-lg mb-1">
        Unusual in the last day
      </h2>
      <ul>
        {unusual.map((one) => {
          const isOpen = chosen?.start === one.start && isSame(chosen, one);
          return (
            <li
              key={`${one.what} ${one.at} ${one.measure} ${one.start}`}
              className="border-t border-hair py-1"
            >
              <button
                type="button"
                aria-expanded={isOpen}
                className="text-left hover:underline min-h-6"
                onClick={() => choose(isOpen ? undefined : one)}
              >
                {one.words}
              </button>
              {isOpen && gauge.data && <GaugeChart gauge={gauge.data} moment={undefined} />}
            </li>
          );
        })}
      </ul>
    </section>
  );
}
