import { useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import { asItIs, useMap, useWalk } from "../api/answers";
import type { Walk } from "../api/client";
import { useCurrentNetwork } from "../frame/context";
import { FlowStrip, type Told } from "../history/FlowStrip";
import { answerMap } from "../map/answerMap";
import { NetworkMap } from "../map/NetworkMap";
import { cablesByLink, walkTraces } from "../map/ways";
import { Failed, Waiting } from "../ui/states";
import { useStepper } from "../ui/useStepper";
import { AnswerHead } from "./AnswerHead";
import { EarlierAnswers } from "./AskedBefore";
import { EvidencePanel } from "./EvidencePanel";
import { LadderView } from "./LadderView";
import { NotRepresented } from "./NotRepresented";
import { PortParts } from "./PortParts";
import { Sentence } from "./Sentence";
import { Suggestions } from "./Suggestions";
import { questionOf } from "./sentence";

export function FlowPage() {
  const { revision } = useCurrentNetwork();
  const [search, setSearch] = useSearchParams();
  const question = questionOf(search);
  const map = useMap(revision);
  const asked = Boolean(question.from && question.to);
  const walk = useWalk(revision, question);
  const answer = asked && !walk.isError ? walk.data : undefined;
  const asIs = useWalk(asItIs(revision), question, revision.trial !== undefined);
  const before = revision.trial && answer ? asIs.data : undefined;
  const traces = useMemo(
    () => (answer && map.data ? walkTraces(answer, cablesByLink(map.data), before) : undefined),
    [answer, before, map.data],
  );
  const own = useMemo(
    () =>
      answer && traces && map.data
        ? answerMap(map.data, traces, answer.forward.stops[0]?.device ?? "")
        : null,
    [answer, traces, map.data],
  );
  const devices = answer ? orderedDevices(answer) : [];
  const at = search.get("at");
  const chosen = at && (devices.includes(at) || !answer) ? at : telling(answer);

  const [told, tell] = useState<Told>(null);

  function choose(device: string) {
    tell(null);
    const next = new URLSearchParams(search);
    next.set("at", device);
    setSearch(next, { replace: true });
  }
  useStepper(devices, (device) => device === chosen, choose);

  return (
    <div className="h-full flex flex-col max-lg:block max-lg:overflow-auto">
      <Sentence />
      <div className="flex-1 min-h-0 grid max-lg:grid-cols-[minmax(0,1fr)] lg:grid-cols-[minmax(0,57fr)_minmax(0,43fr)] max-lg:auto-rows-[75vh]">
        <section className="border-r border-hair min-h-0 flex flex-col" aria-label="the answer">
          {!asked && <Suggestions />}
          {asked && walk.isPending && <Waiting what="the answer" />}
          {asked && walk.isError && <Failed error={walk.error} what="This cannot be asked as it stands." />}
          {answer && (
            <>
              <AnswerHead walk={answer} />
              <PortParts walk={answer} />
              <Doubts walk={answer} />
              <div className="flex-1 overflow-auto">
                <LadderView walk={answer} before={before} chosen={chosen} choose={choose} />
                {answer.forward_note && <p className="px-4 py-2 text-faint italic">{answer.forward_note}</p>}
                {answer.return_note && <p className="px-4 py-2 text-faint italic">{answer.return_note}</p>}
                <NotRepresented walk={answer} />
                <EarlierAnswers question={question} />
              </div>
            </>
          )}
        </section>
        <section className="min-h-0" aria-label="the map">
          {map.isPending && <Waiting what="the map" />}
          {map.isError && <Failed error={map.error} what="The map cannot be drawn." />}
          {map.data && (
            <NetworkMap map={map.data} traces={traces} own={own} chosen={chosen} choose={choose} />
          )}
        </section>
      </div>
      {asked && <FlowStrip told={told} tell={tell} />}
      {answer && chosen && told === null && (
        <section className="h-[30%] min-h-40 max-lg:h-[75vh] border-t border-hair" aria-label="evidence">
          <EvidencePanel walk={answer} device={chosen} />
        </section>
      )}
    </div>
  );
}

/** Why what is shown is not sure: each reason once. */
function Doubts({ walk }: { walk: Walk }) {
  const doubts = [...new Set([...walk.forward.doubts, ...(walk.return?.doubts ?? [])])];
  return doubts.map((doubt) => (
    <p key={doubt} className="px-4 py-1 border-b border-hair text-[14px] text-stop" data-testid="doubt">
      Not sure: {doubt}
    </p>
  ));
}

function orderedDevices(walk: Walk): string[] {
  return [
    ...new Set(
      [...walk.forward.stops, ...(walk.return ? [...walk.return.stops].reverse() : [])].map(
        (stop) => stop.device,
      ),
    ),
  ];
}

/** The stop to look at first: where the packet is stopped, else where it ends. */
function telling(walk: Walk | undefined): string | null {
  if (!walk) return null;
  const cause = walk.forward.causes[0] ?? walk.return?.causes[0];
  return cause?.device ?? walk.forward.stops.find((stop) => stop.verdict)?.device ?? walk.from.device;
}
