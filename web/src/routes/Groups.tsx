import type { Forest, ForestRow } from "../api/client";
import { actionText, kindText } from "../contest/words";
import { VerdictMark, verdictTone } from "../ui/marks";
import { sitesAlike } from "./sites";

/** From each site: the borders by which traffic passes into another AS, or how it ends without doing so. */
export function SiteExits({ forest }: { forest: Forest }) {
  return (
    <section className="px-6 py-2 border-b border-hair bg-sheet" aria-label="exits by site">
      <h3 className="text-faint">the way out, from each site</h3>
      <dl className="grid grid-cols-[minmax(0,11rem)_minmax(0,1fr)] gap-x-3" data-testid="exits">
        {sitesAlike(forest.sites).map(({ names, borders, ends }) => (
          <div key={names.join()} className="contents">
            <dt>{names.join(", ")}</dt>
            <dd>
              {borders.map((border) => (
                <p key={`${border.device} ${border.interface} ${border.onward}`}>
                  <span className="font-semibold">{border.device}</span>{" "}
                  <span className="mono">{border.interface}</span> into AS {border.as}, {border.onward}
                </p>
              ))}
              {ends.length > 0 && <p className="text-faint">{ends.join("; ")}</p>}
            </dd>
          </div>
        ))}
      </dl>
    </section>
  );
}

export function Groups({
  forest,
  group,
  setGroup,
  chosen,
  choose,
}: {
  forest: Forest;
  group: number | null;
  setGroup: (group: number | null) => void;
  chosen: ForestRow | null;
  choose: (row: ForestRow) => void;
}) {
  return (
    <ol data-testid="groups">
      {forest.groups.map((one, index) => (
        <li key={one.label} className="border-b border-hair px-6 py-2">
          <button
            type="button"
            aria-pressed={group === index}
            onClick={() => setGroup(group === index ? null : index)}
            className={`text-left border-b-2 ${group === index ? "border-ink" : "border-transparent hover:border-hair"}`}
          >
            {[...new Set(one.exits.map((exit) => exit.how))].map((how) => {
              const verdict = how === "delivered" ? "arrives" : how;
              return (
                <span key={how} className={`mr-1 ${verdictTone(verdict)}`}>
                  <VerdictMark verdict={verdict} size={13} />
                </span>
              );
            })}
            <span className="font-semibold">{one.label}</span>{" "}
            <span className="text-faint">
              {one.rows.length} {one.rows.length === 1 ? "table" : "tables"}
            </span>
          </button>
          <ol>
            {one.rows.map((number) => {
              const row = forest.rows[number];
              if (!row) return null;
              return (
                <li key={`${row.device} ${row.vrf}`}>
                  <button
                    type="button"
                    onClick={() => choose(row)}
                    aria-pressed={row === chosen}
                    className={`w-full text-left grid grid-cols-[11rem_9.5rem_minmax(0,1fr)] gap-3 items-baseline py-px hover:bg-wash ${row === chosen ? "bg-mark/50" : ""}`}
                  >
                    <span className="truncate">
                      {row.device}
                      {row.vrf !== "default" && <span className="text-faint"> VRF {row.vrf}</span>}
                    </span>
                    <span className="text-faint truncate" title={row.route?.kind}>
                      {row.route ? kindText(row.route) : "no route"}
                    </span>
                    <span className="mono truncate">{row.route && actionText(row.route)}</span>
                  </button>
                </li>
              );
            })}
          </ol>
        </li>
      ))}
    </ol>
  );
}
