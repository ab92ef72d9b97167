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
import { around, type Span, WINDOWS, wholeOf, windowOf, windowText } from "./strip";
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
  // What happened is told of what is there at the end of a window.
  const part = wholeOf(span, revisions);
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
      <Down outages={found.down} end={found.end} />
      <UnusualList unusual={found.unusual} span={span} />
      <Flapping things={found.flapping} />
      <Longest outages={found.longest} start={found.start} />
      <Busiest changes={found.busiest} count={found.announcements} />
      <EventList events={found.events} count={found.event_count} revisions={revisions} />
    </div>
  );
}
