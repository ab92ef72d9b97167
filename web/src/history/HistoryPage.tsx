import { useSearchParams } from "react-router";
import { useHappened } from "../api/history";
import { useRevisions } from "../api/queries";
import { useCurrentNetwork } from "../frame/context";
import { Empty, Failed, Waiting } from "../ui/states";
import { useTimes } from "../ui/times";
import { counted } from "../ui/words";
import { EventFiles } from "./EventFiles";
import { EventList } from "./EventList";
import { useKnownTime } from "./FlowStrip";
import { Busiest, Down, Flapping, Longest } from "./Outages";
import { around, partsOf, type Span, WINDOWS, windowOf, windowText } from "./strip";
import { UnusualList } from "./UnusualList";

/** What happened to the network: what is down, what goes down most, the longest outages, and all events. */
export default function HistoryPage() {
  const { network, revision } = useCurrentNetwork();
  const known = useKnownTime(network.id);
  return (
    <div className="h-full overflow-auto px-6 py-5 grid gap-10 max-lg:grid-cols-[minmax(0,1fr)] lg:grid-cols-[minmax(0,1fr)_22rem]">
      {known ? (
        <Known known={known} moment={revision.moment} />
      ) : (
        <Empty title="Nothing is known of what happened.">
          Send a file of events, one on a line, and every flow is seen over time: what was down when, by which
          ways it went, when it fell back to a default.
        </Empty>
      )}
      <EventFiles networkId={network.id} mayEdit={network.role !== "reader"} />
    </div>
  );
}

function Known({ known, moment }: { known: Span; moment: string | undefined }) {
  const { network } = useCurrentNetwork();
  const revisions = useRevisions(network.id).data ?? [];
  const [search, setSearch] = useSearchParams();
  const shownTime = useTimes();
  const span = windowOf(search.get("window"), known);
  // What is down is told of the end of a window, by the revision that stands for it.
  const parts = partsOf(span, revisions);
  const part = parts.at(-1);
  const happened = useHappened(network.id, part);
  function look(at: Span | null) {
    const next = new URLSearchParams(search);
    if (at) next.set("window", windowText(at));
    else next.delete("window");
    setSearch(next, { replace: true });
  }
  const end = moment === undefined ? span.to : Date.parse(moment);
  if (happened.isError) return <Failed error={happened.error} what="What happened cannot be told." />;
  if (!happened.data || !part) return <Waiting what="what happened" />;
  const found = happened.data;
  return (
    <div>
      <p className="flex flex-wrap gap-x-4 items-baseline text-faint mb-4">
        <span className="text-ink">
          {shownTime(found.start)} – {shownTime(found.end)}
        </span>
        {WINDOWS.map(({ name, length }) => (
          <button
            key={name}
            type="button"
            className="hover:text-ink"
            onClick={() => look(around(end, length, known))}
          >
            the last {name}
          </button>
        ))}
        <button type="button" className="hover:text-ink" onClick={() => look(null)}>
          all that is known
        </button>
        <span>
          {counted(found.event_count, "event")}, {found.last_hour} in the last hour
          {found.unfitting > 0 && (
            <span className="text-stop"> · {found.unfitting} do not fit the model</span>
          )}
        </span>
      </p>
      {parts.length > 1 && (
        <p className="text-faint mb-3">
          Told of revision {part.number}: an earlier one stands for what was before {shownTime(part.start)}.
        </p>
      )}
      <Down outages={found.down} end={found.end} />
      <UnusualList unusual={found.unusual} span={span} />
      <Flapping things={found.flapping} />
      <Longest outages={found.longest} start={found.start} />
      <Busiest changes={found.busiest} count={found.announcements} />
      <EventList events={found.events} count={found.event_count} part={part} />
    </div>
  );
}
