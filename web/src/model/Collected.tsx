import { Link } from "react-router";
import { useCollecting } from "../api/collecting";
import type { components } from "../api/schema.gen";
import { Key } from "../ui/Key";
import { ageText, useTimes } from "../ui/times";
import { useKeys } from "../ui/useKeys";
import { counted } from "../ui/words";

type Inventory = components["schemas"]["InventoryAbout"];
type Round = components["schemas"]["RoundAbout"];

/** What a worker collects into the network: each inventory with what its last round brought, and one more by key. */
export function Collected({ networkId, mayEdit }: { networkId: string; mayEdit: boolean }) {
  const { found, now } = useCollecting(networkId);
  const inventories = found.data ?? [];
  const first = inventories[0];
  useKeys(mayEdit && first ? { C: () => now.mutate(first.inventory) } : {});
  if (!first) return null;
  return (
    <section aria-labelledby="collected-title" className="mb-6" data-testid="collected">
      <h2 id="collected-title" className="text-lg mb-3">
        Collected
      </h2>
      <ul>
        {inventories.map((one) => (
          <li key={one.inventory} className="border-t border-hair py-2">
            <p className="flex items-baseline gap-3">
              <span className="mono">{one.inventory}</span>
              <span className="text-faint">{one.every ? `every ${counted(one.every, "minute")}` : ""}</span>
              {mayEdit && (
                <button
                  type="button"
                  className="ml-auto text-good underline underline-offset-2 disabled:text-faint"
                  disabled={now.isPending}
                  onClick={() => now.mutate(one.inventory)}
                >
                  ask the devices now {one === first && <Key>C</Key>}
                </button>
              )}
            </p>
            <LastRound inventory={one} networkId={networkId} />
          </li>
        ))}
      </ul>
      {now.error && (
        <p role="alert" className="text-stop">
          {now.error.message}
        </p>
      )}
    </section>
  );
}

function LastRound({ inventory, networkId }: { inventory: Inventory; networkId: string }) {
  const shownTime = useTimes();
  const round = inventory.rounds[0];
  if (!round) return null;
  const failed = Object.entries(round.failed);
  const unknown = Object.entries(round.unknown);
  return (
    <div className="text-sm">
      <p>
        {shownTime(round.began_at)}, {ageText(round.began_at, new Date())}: {resultOf(round)}
        {round.revision !== null && (
          <>
            {" · "}
            <Link
              className="underline underline-offset-2"
              to={`/networks/${networkId}/flow?revision=${round.revision}`}
            >
              revision {round.revision}
            </Link>
          </>
        )}
      </p>
      {failed.map(([device, reason]) => (
        <p key={device} className="text-stop">
          <span className="mono">{device}</span> keeps what was known: {reason}
        </p>
      ))}
      {unknown.map(([at, hears]) => (
        <p key={at} className="text-faint">
          <span className="mono">{at}</span> hears <span className="mono">{hears}</span>, which the inventory
          lacks
        </p>
      ))}
    </div>
  );
}

function resultOf(round: Round): string {
  if (round.ended_at === null) return "the devices are asked";
  if (round.problem) return round.problem;
  const of = round.answered + Object.keys(round.failed).length;
  const news = round.revision === null ? ", nothing changed" : "";
  return `${round.answered} of ${counted(of, "device")} answered${news}`;
}
