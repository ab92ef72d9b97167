import { useLeaning } from "../api/answers";
import type { Schemas } from "../api/client";
import { useCurrentNetwork } from "../frame/context";
import { SourceLink } from "../source/SourceLink";
import { TryButton } from "../trials/TryButton";
import { Alert } from "../ui/Alert";
import { FirstOf } from "../ui/FirstOf";
import { KIND_WORDS, OUTCOME_WORDS } from "./words";

type Found = Schemas["Leaning"];
type Element = Found["elements"][number];

const ROLES = [
  ["carries", "carrying it"],
  ["decides", "not on its way, but decide about it"],
  ["stands by", "standing by"],
] as const;

const KINDS = [
  ["entry", "entries it stands on"],
  ["policy", "policies its routes meet"],
  ["route", "routes that lead it"],
] as const;

/** What an expectation leans on: found one after the other, shown as it comes. */
export function Leaning({ name }: { name: string }) {
  const { revision } = useCurrentNetwork();
  const { data, error, step, soFar, isFetching, stop } = useLeaning(revision, name);
  if (error) return <Alert>{error.message}</Alert>;
  const found = data ?? step?.so_far;
  return (
    <div className="border-l-2 border-hair pl-3 my-1 text-[14px]" data-testid="leaning">
      {isFetching && (
        <p className="text-faint italic">
          letting one thing fail after the other: {soFar.done}
          {soFar.of > 0 && ` of ${soFar.of}`}{" "}
          <button type="button" className="underline not-italic" onClick={() => void stop()}>
            stop
          </button>
        </p>
      )}
      {data && <p>{data.words}</p>}
      {found && <Elements found={found} />}
      {found && <LedBy found={found} />}
    </div>
  );
}

function Elements({ found }: { found: Found }) {
  return ROLES.map(([role, title]) => {
    const some = found.elements.filter((one) => one.role === role);
    if (some.length === 0) return null;
    return (
      <section key={role} aria-label={title}>
        <h3 className="font-semibold mt-1">{title}</h3>
        <FirstOf
          first={8}
          all={some}
          line={(one) => <ElementLine key={`${one.kind} ${one.name}`} one={one} />}
        />
      </section>
    );
  });
}

function ElementLine({ one }: { one: Element }) {
  const isBroken = one.outcome === "loops" || one.outcome === "breaks";
  const instead = one.instead_of;
  return (
    <li className="grid grid-cols-[minmax(16rem,1fr)_minmax(10rem,0.5fr)_minmax(0,1.5fr)] gap-x-3">
      <span>
        {KIND_WORDS[one.kind]} <span className="mono">{one.name}</span>
      </span>
      <span className={isBroken ? "text-stop" : "text-faint"}>
        {one.outcome
          ? `without it ${OUTCOME_WORDS[one.outcome]}`
          : instead
            ? `takes over without ${KIND_WORDS[instead.kind]} ${instead.name}`
            : "an end of it"}
      </span>
      <span className="truncate text-faint mono text-[12px]">
        {(one.outcome || instead) && (
          <>
            <TryButton
              changes={instead ? [instead.change, one.change] : [one.change]}
              label={instead ? "try both" : "try it"}
            />{" "}
            {one.flows.join(", ")}
            {one.flow_count > one.flows.length && ` and ${one.flow_count - one.flows.length} more`}
          </>
        )}
      </span>
    </li>
  );
}

function LedBy({ found }: { found: Found }) {
  return KINDS.map(([kind, title]) => {
    const some = found.led_by.filter((one) => one.kind === kind);
    if (some.length === 0) return null;
    return (
      <section key={kind} aria-label={title}>
        <h3 className="font-semibold mt-1">{title}</h3>
        <FirstOf
          first={8}
          all={some}
          line={(one) => (
            <li key={`${one.device} ${one.words}`}>
              <span className="mono">{one.device}</span> {one.words}{" "}
              {one.place && <SourceLink place={one.place} />}{" "}
              {one.outcome && one.change && (
                <>
                  <span
                    className={
                      one.outcome === "breaks" || one.outcome === "loops" ? "text-stop" : "text-faint"
                    }
                  >
                    without it {OUTCOME_WORDS[one.outcome]}
                  </span>{" "}
                  <TryButton changes={[one.change]} label="try it" />
                </>
              )}
            </li>
          )}
        />
      </section>
    );
  });
}
