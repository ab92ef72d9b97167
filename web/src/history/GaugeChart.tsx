import { useEffect, useRef, useSyncExternalStore } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import type { GaugeOverTime } from "../api/history";
import { isLocalZone } from "../ui/times";
import { valueText } from "./gauges";
import { millisecond } from "./moments";

const HEIGHT = 170;
const FONT = '12px "Source Sans 3 Variable", sans-serif';

/** One measure over the window: its median as a line, from its lowest to its highest as a band, behind it what was
 * usual at the same hours. */
export function GaugeChart(shown: Shown) {
  const theme = useSyncExternalStore(onThemeChange, () => document.documentElement.dataset.theme);
  return <Painted key={theme} {...shown} />;
}

type Shown = { gauge: GaugeOverTime; moment: number | undefined };

function Painted({ gauge, moment }: Shown) {
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const chart = new uPlot(optionsOf(element, gauge, moment), columnsOf(gauge), element);
    const observer = new ResizeObserver(() =>
      chart.setSize({ width: Math.max(200, element.clientWidth), height: HEIGHT }),
    );
    observer.observe(element);
    return () => {
      observer.disconnect();
      chart.destroy();
    };
  }, [gauge, moment]);
  return <div ref={box} data-testid="gauge-chart" role="img" aria-label={spoken(gauge)} />;
}

/** A chart's colours are painted: another theme paints it anew. */
function onThemeChange(changed: () => void) {
  const observer = new MutationObserver(changed);
  observer.observe(document.documentElement, { attributeFilter: ["data-theme"] });
  return () => observer.disconnect();
}

/** The chart in words, for who does not see it. */
function spoken({ measure, points, words }: GaugeOverTime): string {
  const known = points.flatMap(({ median }) => (median === null ? [] : [median]));
  if (!known.length) return `${words}: no samples`;
  return `${words}: ${valueText(measure, Math.min(...known))} to ${valueText(measure, Math.max(...known))}`;
}

function columnsOf({ points }: GaugeOverTime): uPlot.AlignedData {
  return [
    points.map(({ start }) => millisecond(start) / 1000),
    points.map(({ usual }) => usual?.low ?? null),
    points.map(({ usual }) => usual?.high ?? null),
    points.map(({ usual }) => usual?.median ?? null),
    points.map(({ low }) => low),
    points.map(({ high }) => high),
    points.map(({ median }) => median),
  ] as uPlot.AlignedData;
}

function optionsOf(
  element: HTMLElement,
  { measure, most }: GaugeOverTime,
  moment: number | undefined,
): uPlot.Options {
  const style = getComputedStyle(document.documentElement);
  const color = (name: string) => style.getPropertyValue(`--${name}`).trim();
  const axis = {
    font: FONT,
    stroke: color("faint"),
    grid: { show: false },
    ticks: { stroke: color("hair"), size: 4 },
  };
  const tells = (name: string) => ({
    label: name,
    value: (_: uPlot, value: number | null) => (value === null ? "" : valueText(measure, value)),
  });
  const hidden = { ...tells(""), stroke: "transparent", width: 0, points: { show: false }, spanGaps: true };
  return {
    width: Math.max(200, element.clientWidth),
    height: HEIGHT,
    padding: [8, 8, 0, 0],
    legend: { show: false },
    cursor: { drag: { x: false, y: false }, points: { size: 5 } },
    ...(isLocalZone()
      ? {}
      : { tzDate: (seconds: number) => uPlot.tzDate(new Date(seconds * 1000), "Etc/UTC") }),
    scales: { y: { range: (_: uPlot, __: number, high: number) => [0, topOf(high, most)] } },
    series: [
      {},
      hidden,
      hidden,
      { ...tells("usual"), stroke: color("faint"), dash: [3, 3], points: { show: false }, spanGaps: true },
      hidden,
      hidden,
      { ...tells("median"), stroke: color("forward"), width: 1.5, spanGaps: true, points: { show: false } },
    ],
    bands: [
      { series: [2, 1], fill: color("wash") },
      { series: [5, 4], fill: `${color("forward")}33` },
    ],
    axes: [
      { ...axis, size: 26, values: (_, times) => times.map((time) => timeText(time, times)) },
      {
        ...axis,
        size: 66,
        grid: { show: true, stroke: color("hair"), width: 1 },
        values: (_, values) => values.map((value) => valueText(measure, value)),
      },
    ],
    hooks: {
      draw: [
        (chart) => {
          if (moment === undefined) return;
          const left = chart.valToPos(moment / 1000, "x", true);
          if (left < chart.bbox.left || left > chart.bbox.left + chart.bbox.width) return;
          chart.ctx.fillStyle = color("ink");
          chart.ctx.fillRect(left - 1, chart.bbox.top, 2, chart.bbox.height);
        },
      ],
    },
  };
}

/** What stands at the top: a little over the highest; where there can be no more, that. */
function topOf(high: number, most: number | null): number {
  const wanted = (high || 1e-3) * 1.1;
  return most === null ? wanted : Math.min(wanted, most);
}

const two = (value: number) => String(value).padStart(2, "0");

/** `11-20` at midnight and where days are between, else `03:00`. */
function timeText(time: number, times: number[]): string {
  const at = new Date((time - (isLocalZone() ? new Date(time * 1000).getTimezoneOffset() * 60 : 0)) * 1000);
  const isWide = times.length > 1 && (times[1] as number) - (times[0] as number) >= 86_400;
  const clock = `${two(at.getUTCHours())}:${two(at.getUTCMinutes())}`;
  return isWide || clock === "00:00" ? `${two(at.getUTCMonth() + 1)}-${two(at.getUTCDate())}` : clock;
}
