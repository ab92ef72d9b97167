import type { Schemas } from "../api/client";
import { TryButton } from "../trials/TryButton";
import { FirstOf } from "../ui/FirstOf";
import { counted } from "../ui/words";
import { KIND_WORDS } from "./words";

/** In the order of how bad they are; those that nothing shows are left out. */
const COLUMNS = [
  ["blocked", "cut off"],
  ["loops", "goes round"],
  ["open", "newly through"],
  ["asymmetry", "back otherwise"],
  ["redundancy", "fewer ways"],
  ["longer", "longer way"],
  ["moved", "other way"],
] as const;

const WORSE = new Set(["blocked", "loops"]);

/** Failures and what becomes of all traffic between places, the worst first. */
export function PlacesList({ found }: { found: Schemas["PlacesUnderFailures"] }) {
  const seen = new Set(found.failures.flatMap((one) => one.effects.map(({ effect }) => effect)));
  const columns = COLUMNS.filter(([effect]) => seen.has(effect));
  const grid = {
    gridTemplateColumns: `minmax(14rem, 1.6fr) repeat(${columns.length}, minmax(4.5rem, 0.5fr))`,
  };
  return (
    <div data-testid="places-under-failures">
      <p className="text-faint">
        {found.words}; {counted(found.harmless, "failure")} change{found.harmless === 1 ? "s" : ""} nothing.
      </p>
      {found.failures.length > 0 && (
        <div className="grid gap-x-3 text-faint border-b border-hair" style={grid}>
          <span>without</span>
          {columns.map(([effect, title]) => (
            <span key={effect} className="text-right">
              {title}
            </span>
          ))}
        </div>
      )}
      <FirstOf
        first={30}
        all={found.failures}
        line={(one) => (
          <li
            key={`${one.kind} ${one.name}`}
            className="grid gap-x-3 border-t border-hair/70 py-0.5"
            style={grid}
          >
            <span>
              {KIND_WORDS[one.kind]} <span className="mono">{one.name}</span>{" "}
              <TryButton changes={[one.change]} label="try it" />
            </span>
            {columns.map(([effect]) => {
              const count = one.effects.find((of) => of.effect === effect);
              return (
                <span
                  key={effect}
                  title={count?.words}
                  className={`text-right ${!count ? "text-faint" : WORSE.has(effect) ? "text-stop font-semibold" : ""}`}
                >
                  {count?.pairs.toLocaleString("en") ?? "–"}
                </span>
              );
            })}
          </li>
        )}
      />
    </div>
  );
}
