import { useStateThen } from "../api/history";
import { useCurrentNetwork } from "../frame/context";
import { useTimes } from "../ui/times";
import { counted } from "../ui/words";
import { letter, type Segment, type Strip } from "./strip";

/** What is so at the moment looked at: of the flow, and of the network otherwise than its revision says. */
export function SegmentLine({
  segment,
  strip,
  moment,
  hovered,
}: {
  segment: Segment | undefined;
  strip: Strip;
  moment: number | undefined;
  hovered: boolean;
}) {
  const { revision } = useCurrentNetwork();
  const shownTime = useTimes();
  const then = useStateThen(revision);
  const time = (at: number) => shownTime(new Date(at).toISOString());
  if (!segment)
    return (
      <p className="text-sm text-faint truncate" data-testid="segment-line">
        {usual(strip)} Go to a moment by a click or a key; drag along the axis to look closer.
      </p>
    );
  const there = strip.ways.forward.findIndex((way) => way.key === segment.way);
  const back = strip.ways.return.findIndex((way) => way.key === segment.wayBack);
  const told = [...segment.because, ...segment.fellBack].join("; ");
  const otherwise = !hovered && moment !== undefined ? (then.data?.otherwise ?? []) : [];
  return (
    <div className="text-sm" data-testid="segment-line">
      <p className="truncate">
        <span className="text-faint">
          {time(segment.from)} – {time(segment.to)}:
        </span>{" "}
        {segment.unknown ? (
          <span className="italic">not known: {segment.unknown}</span>
        ) : (
          <>
            <span className={segment.good ? "" : "text-stop"}>{segment.words}</span>
            {there >= 0 && (
              <span className="text-forward">
                {" · "}
                {letter(there)} {pathText(strip.ways.forward[there]?.paths)}
              </span>
            )}
            {back >= 0 && (
              <span className="text-return">
                {" · "}
                {letter(back)} {pathText(strip.ways.return[back]?.paths)}
              </span>
            )}
          </>
        )}
      </p>
      <p className="truncate text-faint" title={told}>
        {segment.because.length > 0 && <>began with {segment.because.join(", ")}. </>}
        {segment.fellBack.length > 0 && (
          <span className="text-ink">Fell back: {segment.fellBack.join("; ")}. </span>
        )}
        {otherwise.length > 0 && (
          <span data-testid="otherwise">
            Then{" "}
            {otherwise
              .map((one) => one.words + (one.since ? ` since ${shownTime(one.since.time)}` : ""))
              .join(", ")}
            .
          </span>
        )}
        {!segment.because.length && !segment.fellBack.length && !otherwise.length && " "}
      </p>
    </div>
  );
}

function usual(strip: Strip): string {
  const ways = strip.ways.forward.length;
  if (!strip.segments.length) return "";
  return `${counted(strip.segments.length, "state")} of the flow, ${counted(ways, "way")} there.`;
}

function pathText(paths: string[][] | undefined): string {
  const first = paths?.[0]?.join(" – ") ?? "";
  return paths && paths.length > 1 ? `${first} and ${paths.length - 1} more` : first;
}
