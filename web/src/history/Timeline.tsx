import { type PointerEvent, type ReactNode, useEffect, useRef, useState } from "react";
import type { EventShown } from "../api/history";
import { isLocalZone, useTimes } from "../ui/times";
import { Bands, EVENTS_HEIGHT, LABELS, rowHeight } from "./Bands";
import { millisecond } from "./moments";
import { type Span, type Strip, ticks } from "./strip";

const AXIS = 16;

/** Bands, events and the axis; a click or drag goes to a moment, a drag along the axis chooses a window. */
export function Timeline({
  strip,
  events,
  window: span,
  moment,
  mark,
  goTo,
  look,
  hover,
  children,
}: {
  strip: Strip;
  events: EventShown[];
  window: Span;
  moment: number | undefined;
  /** A moment that others are compared with. */
  mark: number | undefined;
  goTo: (moment: number) => void;
  look: (window: Span) => void;
  hover: (moment: number | undefined) => void;
  /** More bands, drawn to the same scale. */
  children: (at: (time: number) => number, width: number) => ReactNode;
}) {
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(600);
  const [brush, setBrush] = useState<Span>();
  const shownTime = useTimes();
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const observer = new ResizeObserver(() => setWidth(Math.max(100, element.clientWidth - LABELS)));
    observer.observe(element);
    return () => observer.disconnect();
  }, []);
  const at = (time: number) => ((time - span.from) / (span.to - span.from)) * width;
  const timeAt = (event: PointerEvent) => {
    const left = event.clientX - (box.current?.getBoundingClientRect().left ?? 0) - LABELS;
    const inside = Math.min(1, Math.max(0, left / width));
    return Math.round((span.from + inside * (span.to - span.from)) / 1000) * 1000;
  };
  const height = rowHeight + EVENTS_HEIGHT + AXIS;
  const offset = isLocalZone() ? -new Date(span.from).getTimezoneOffset() * 60_000 : 0;
  const onAxis = (event: PointerEvent<HTMLDivElement>) =>
    event.clientY - event.currentTarget.getBoundingClientRect().top > rowHeight + EVENTS_HEIGHT;
  return (
    <div ref={box}>
      <div
        role="slider"
        tabIndex={0}
        aria-label="moment"
        aria-valuemin={span.from}
        aria-valuemax={span.to}
        aria-valuenow={moment ?? span.to}
        aria-valuetext={
          moment === undefined ? "as the revision is" : shownTime(new Date(moment).toISOString())
        }
        className="relative select-none touch-none cursor-crosshair"
        data-testid="strip"
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          const time = timeAt(event);
          if (onAxis(event)) setBrush({ from: time, to: time });
          else goTo(time);
        }}
        onPointerMove={(event) => {
          const time = timeAt(event);
          hover(time);
          if (brush) setBrush({ ...brush, to: time });
          else if (event.buttons === 1 && !onAxis(event)) goTo(time);
        }}
        onPointerUp={() => {
          if (brush && Math.abs(brush.to - brush.from) > 1000)
            look({ from: Math.min(brush.from, brush.to), to: Math.max(brush.from, brush.to) });
          setBrush(undefined);
        }}
        onPointerLeave={() => hover(undefined)}
      >
        <svg width={width + LABELS} height={height} aria-hidden="true" className="block">
          <Bands strip={strip} at={at} width={width} left={LABELS} />
          <g transform={`translate(${LABELS} ${rowHeight})`}>
            {events.map((event) => (
              <path
                key={`${event.time} ${event.words}`}
                d={event.goes === "up" ? "M-2.5 6H2.5L0 1Z" : "M-2.5 1H2.5L0 6Z"}
                transform={`translate(${at(millisecond(event.time))} 0)`}
                className={event.goes === "down" ? "fill-stop" : "fill-faint"}
              />
            ))}
          </g>
          <g transform={`translate(${LABELS} ${rowHeight + EVENTS_HEIGHT})`} className="text-[11px]">
            <path d={`M0 .5H${width}`} className="stroke-hair" />
            {ticks(span, Math.max(2, Math.floor(width / 110)), offset).map((time) => (
              <g key={time} transform={`translate(${at(time)} 0)`}>
                <path d="M0 0V3" className="stroke-faint" />
                <text
                  y="12"
                  textAnchor={at(time) < 20 ? "start" : at(time) > width - 20 ? "end" : "middle"}
                  className="fill-faint"
                >
                  {tickText(shownTime(new Date(time).toISOString()), span)}
                </text>
              </g>
            ))}
          </g>
          {brush && (
            <rect
              x={LABELS + at(Math.min(brush.from, brush.to))}
              width={Math.abs(at(brush.to) - at(brush.from))}
              height={height}
              className="fill-mark opacity-50"
            />
          )}
          {mark !== undefined && mark >= span.from && mark <= span.to && (
            <g transform={`translate(${LABELS + at(mark)} 0)`} data-testid="mark">
              <path
                d={`M0 0V${height - AXIS + 4}`}
                className="stroke-ink"
                strokeWidth="1.5"
                strokeDasharray="2 2"
              />
            </g>
          )}
          {moment !== undefined && moment >= span.from && moment <= span.to && (
            <g transform={`translate(${LABELS + at(moment)} 0)`} data-testid="cursor">
              <path d={`M0 0V${height - AXIS + 4}`} className="stroke-ink" strokeWidth="1.5" />
              <path d="M-4 0H4L0 5Z" className="fill-ink" />
            </g>
          )}
        </svg>
      </div>
      {children(at, width)}
    </div>
  );
}

/** `03:15` in a window of some hours, `11-20 03:00` in one of days, `11-20` in one of weeks. */
function tickText(text: string, { from, to }: Span): string {
  const [day = "", time = ""] = text.split(" ");
  if (to - from > 8 * 86_400_000) return day.slice(5);
  return to - from > 86_400_000 ? `${day.slice(5)} ${time}` : time;
}
