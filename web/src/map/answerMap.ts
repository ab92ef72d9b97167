import type { MapData } from "../api/client";
import type { Layout, Point } from "./geometry";
import { neighborsOf, ordered, rowsFrom } from "./tiers";
import type { Traces } from "./ways";

const ROW = 78;
const COLUMN = 150;
const BESIDE = 24;
/** Rows in one column of rows; a longer answer goes on in the next. */
const MOST_ROWS = 8;
/** Neighbours that stand on one side of a device, and in all. */
const MOST_BESIDE = 3;
const MOST_NEIGHBORS = 40;

export type AnswerMap = { map: MapData; layout: Layout; leftOut: number };

/** The devices of an answer and those cabled to them, laid out from its source down along both strands. */
export function answerMap(map: MapData, traces: Traces, source: string): AnswerMap {
  const along = new Map<string, string[]>([...traces.touched].map((name) => [name, []]));
  for (const { from, to } of [...traces.forward, ...traces.back]) {
    along.get(from)?.push(to);
    along.get(to)?.push(from);
  }
  const rows = rowsFrom([source], along);
  const reached = new Set(rows.flat());
  const lost = [...traces.touched].filter((name) => !reached.has(name));
  if (lost.length > 0) rows.push(lost);
  const places = new Map<string, Point>();
  const neighbors = neighborsOf(map);
  let leftOut = 0;
  const widest = Math.max(...rows.map((row) => row.length));
  const parts = Math.ceil(rows.length / MOST_ROWS);
  const tall = Math.ceil(rows.length / parts);
  const perSide = Math.min(
    parts > 1 ? 1 : MOST_BESIDE,
    Math.floor(MOST_NEIGHBORS / (2 * traces.touched.size)),
  );
  ordered(rows, along).forEach((row, depth) => {
    const part = Math.floor(depth / tall);
    // Down, and up again in the next column, so that what follows is near.
    const down = part % 2 === 0 ? depth % tall : tall - 1 - (depth % tall);
    row.forEach((name, at) => {
      const x = part * (widest + 1) * COLUMN + (at - (row.length - 1) / 2) * COLUMN;
      places.set(name, { x, y: down * ROW });
    });
  });
  for (const [depth, row] of rows.entries()) {
    // Beside a row there is room at its two ends only, between columns of rows there is none.
    const part = Math.floor(depth / tall);
    const [isFirst, isLast] = [part === 0, part === parts - 1];
    const order = [...row].sort((a, b) => (places.get(a)?.x ?? 0) - (places.get(b)?.x ?? 0));
    for (const [at, name] of order.entries()) {
      const others = [...new Set(neighbors.get(name))].filter((other) => !places.has(other)).sort();
      const sides = [...(at === 0 && isFirst ? [-1] : []), ...(at === order.length - 1 && isLast ? [1] : [])];
      const most = sides.length * perSide;
      leftOut += Math.max(0, others.length - most);
      const beside = others.slice(0, most);
      const onSide = Math.ceil(beside.length / Math.max(1, sides.length));
      const middle = places.get(name) as Point;
      beside.forEach((other, index) => {
        const [side, place] = [sides[Math.floor(index / onSide)] ?? 1, index % onSide];
        const count = Math.min(onSide, beside.length - Math.floor(index / onSide) * onSide);
        places.set(other, {
          x: middle.x + side * COLUMN,
          y: middle.y + (place - (count - 1) / 2) * BESIDE,
        });
      });
    }
  }
  return {
    map: {
      ...map,
      sites: [],
      devices: map.devices.filter((device) => places.has(device.name)),
      cables: map.cables.filter((cable) => cable.ends.some((end) => traces.touched.has(end.device))),
    },
    layout: { devices: places, sites: [] },
    leftOut,
  };
}
