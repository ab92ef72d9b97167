import type { Walk } from "../api/client";
import { SourceLink } from "../source/SourceLink";

const SHOWN = 4;

/** What the model leaves out of the devices that the flow passes: it stands by an answer that arrives, too. */
export function NotRepresented({ walk }: { walk: Walk }) {
  const seen = new Set<string>();
  const left = [...walk.forward.not_represented, ...(walk.return?.not_represented ?? [])].filter((one) => {
    const key = `${one.device}${one.message}${one.place?.file}${one.place?.column}`;
    return seen.has(key) ? false : seen.add(key);
  });
  if (left.length === 0) return null;
  return (
    <div className="px-4 py-2 text-[13px] leading-snug" data-testid="not-represented">
      <p className="font-semibold">Not represented on the way</p>
      {left.slice(0, SHOWN).map((one) => (
        <p key={`${one.device}${one.message}${one.place?.column}`} className="text-faint">
          <span className="mono">{one.device}</span> {one.message}{" "}
          {one.place && <SourceLink place={one.place} />}
        </p>
      ))}
      {left.length > SHOWN && (
        <p className="text-faint">and {left.length - SHOWN} more, at the devices below</p>
      )}
    </div>
  );
}
