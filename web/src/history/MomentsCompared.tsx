import { type Part, useBetween, useBetweenHeld } from "../api/history";
import { useCurrentNetwork } from "../frame/context";
import { AllTraffic } from "../held/AllTraffic";
import { RouteLine } from "../routes/RouteLine";
import { FirstOf } from "../ui/FirstOf";
import { Failed, Waiting } from "../ui/states";
import { useTimes } from "../ui/times";
import { counted } from "../ui/words";

const MOST_EVENTS = 4;

/** Two moments held against each other: by what, and which routes, flows that one asked before, and traffic between all
 * places moved. */
export function MomentsCompared({ part, told = false }: { part: Part; told?: boolean }) {
  const { network } = useCurrentNetwork();
  const shownTime = useTimes();
  const found = useBetween(network.id, part);
  const held = useBetweenHeld(network.id, part, found.data !== undefined);
  if (found.isError) return <Failed error={found.error} what="What moved cannot be told." />;
  if (!found.data) return <Waiting what="what moved" />;
  const { moved, event_count, events } = found.data;
  const flows = moved.flows.filter((one) => one.changed);
  return (
    <div className="ml-6 mb-2 border-l-2 border-hair pl-3 text-[14px]" data-testid="moments-compared">
      {told && (
        <p>
          From {shownTime(part.start)} to {shownTime(part.end)}: {counted(event_count, "event")}
          {events.length > 0 && ", "}
          {events
            .slice(-MOST_EVENTS)
            .map(({ words }) => words)
            .join(", ")}
          {event_count > MOST_EVENTS && ", and earlier ones"}
        </p>
      )}
      <p className="text-faint">
        {moved.routes_changed === 0 ? "No route moved" : `${counted(moved.routes_changed, "route")} moved`}
        {!told && event_count > 1 ? `, by ${counted(event_count, "event")} of that moment` : ""}
        {moved.flows.length > 0 &&
          `; ${flows.length} of ${counted(moved.flows.length, "flow")} asked before changed`}
        .
      </p>
      {flows.map((one) => (
        <p key={`${one.flow.from} ${one.flow.to} ${one.flow.service}`}>
          <span className="mono">
            {one.flow.from} &gt; {one.flow.to} {one.flow.service}
          </span>
          : {one.before === one.after ? `${one.after}, by another way` : `${one.before} → ${one.after}`}
        </p>
      ))}
      <AllTraffic held={held} />
      {moved.routes.length > 0 && <h3 className="font-semibold mt-2">Routes</h3>}
      <FirstOf
        all={moved.routes}
        first={12}
        line={(one) => (
          <RouteLine key={`${one.device} ${one.vrf} ${one.prefix}`} change={one} state={{ time: part.end }} />
        )}
      />
    </div>
  );
}
