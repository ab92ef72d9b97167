import { Link, useSearchParams } from "react-router";
import type { Effect, HeldGroup, Schemas } from "../api/client";
import { withQuestion } from "../flows/sentence";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { Alert } from "../ui/Alert";
import { FirstOf } from "../ui/FirstOf";
import { counted } from "../ui/words";

/** How effects look that are no change of the way alone. */
const TONES: Partial<Record<Effect, string>> = {
  blocked: "text-stop",
  loops: "text-stop",
  open: "text-good",
  failing: "text-faint",
};

/** All traffic in two states of a network, or how far it is that they are held against each other. */
export type TrafficHeld = {
  data: Schemas["Held"] | null | undefined;
  error: Error | null;
  fetchStatus: string;
  soFar: { done: number; of: number };
  stop: () => unknown;
  refetch: () => unknown;
};

/** What of all traffic changed between two states of a network, the worst first, and that nothing else did. */
export function AllTraffic({ held }: { held: TrafficHeld }) {
  const { done, of } = held.soFar;
  if (held.error) return <Alert>{held.error.message}</Alert>;
  if (!held.data)
    return held.fetchStatus === "fetching" ? (
      <p className="text-faint italic mt-1" data-testid="held-progress">
        holding all traffic against each other
        {of > 0 && `: ${Math.floor((100 * done) / of)} %`} …{" "}
        <button type="button" className="underline not-italic" onClick={() => void held.stop()}>
          stop
        </button>
      </p>
    ) : (
      <p className="text-faint mt-1">
        What else changes was not worked out.{" "}
        <button type="button" className="underline" onClick={() => void held.refetch()}>
          hold all traffic against each other
        </button>
      </p>
    );
  const { words: all, effects, groups, groups_in_all } = held.data;
  return (
    <div data-testid="held" className="mt-1">
      <h3 className="font-semibold">All traffic</h3>
      <p>{all}</p>
      {effects.map(({ effect, words }, index) => (
        <details key={effect} open={index === 0}>
          <summary className={`mt-0.5 cursor-pointer ${TONES[effect] ?? ""}`}>{words}</summary>
          <FirstOf
            first={4}
            all={groups.filter((group) => group.effect === effect)}
            line={(group) => <Group key={`${group.effect} ${group.what}`} group={group} />}
          />
        </details>
      ))}
      {groups_in_all > groups.length && (
        <p className="text-faint">
          {counted(groups.length, "group")} of {groups_in_all.toLocaleString("en")} are listed.
        </p>
      )}
    </div>
  );
}

function Group({ group }: { group: HeldGroup }) {
  const { network } = useCurrentNetwork();
  const [search] = useSearchParams();
  const { from, to, service, enter, source_port, vrf } = group.example.flow;
  const there = withQuestion(new URLSearchParams(stateOf(search)), { from, to, service, enter: enter ?? "" });
  // The sentence has no word for the port a packet comes from, nor for a VRF.
  const canBeAsked = source_port === null && vrf === null;
  const example = `${from} > ${to} ${service}`;
  return (
    <li className="border-t border-hair/70 py-0.5">
      {group.what}
      <span className="block text-[13px] text-faint">
        {counted(group.pairs, "pair")}: {group.sources.words} <span className="text-ink">&gt;</span>{" "}
        {group.destinations.words}
        {group.services !== "every service" && <>, {group.services}</>}
      </span>
      {canBeAsked ? (
        <Link
          className="mono text-[13px] text-forward underline underline-offset-2"
          to={`/networks/${network.id}/flow?${there}`}
        >
          {example}
        </Link>
      ) : (
        <span className="mono text-[13px] text-faint">
          {example}
          {source_port !== null && ` from port ${source_port}`}
          {vrf !== null && `, VRF ${vrf}`}
        </span>
      )}
    </li>
  );
}
