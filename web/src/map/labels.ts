import type { Box } from "./geometry";

/** A label that wants to stand beside a point; the lower `rank` goes first. */
export type Label = {
  id: string;
  x: number;
  y: number;
  width: number;
  height: number;
  rank: number;
  /** How far from the point it begins. */
  away: number;
  /** Stands on what is to be avoided rather than nowhere. */
  must?: boolean;
  /** Stands no farther off than beside its point. */
  close?: boolean;
  /** Keeps near its column: it moves up and down first, and aside but little. */
  upright?: boolean;
  /** The side where it stands first, -1 for left: away from all cables. */
  side?: -1 | 1 | null;
};
export type Placed = { id: string; x: number; y: number };

const CELL = 80;
/** How much farther off a label stands where there is no room beside its point. */
const FARTHER = [1, 9, 18, 27];
/** The ways in which it is tried there, down first. */
const TURNS = [4, 12, 3, 5, 11, 13, 2, 6, 10, 14, 1, 7, 9, 15, 0, 8].map((part) => (part * Math.PI) / 8);

/** Boxes by the cells of a grid they reach into. */
class Ground {
  private readonly cells = new Map<string, Box[]>();

  constructor(boxes: Box[]) {
    for (const box of boxes) this.add(box);
  }

  add(box: Box) {
    for (const cell of cellsOf(box)) {
      const boxes = this.cells.get(cell);
      if (boxes) boxes.push(box);
      else this.cells.set(cell, [box]);
    }
  }

  /** How many of the boxes one would lie on; one that reaches into several cells may count as several. */
  under(box: Box): number {
    let found = 0;
    for (const cell of cellsOf(box))
      for (const other of this.cells.get(cell) ?? []) found += overlap(box, other) ? 1 : 0;
    return found;
  }
}

/**
 * Places for labels so that none lies on another or on one of `kept`, nor, but for those that must stand, on one of
 * `avoided`. None leaves the `edge`. A label for which there is no room is left out.
 */
export function placeLabels(
  labels: Label[],
  kept: Box[],
  avoided: Box[] = [],
  edge: Box | null = null,
): Placed[] {
  const [taken, crossed] = [new Ground(kept), new Ground(avoided)];
  const isFree = (box: Box) => taken.under(box) === 0 && (!edge || isWithin(box, edge));
  const room = new Map(
    labels.map((label) => [
      label.id,
      around(label).filter(([x, y]) => {
        const box = boxAt(label, x, y);
        return isFree(box) && crossed.under(box) === 0;
      }).length,
    ]),
  );
  const placed: Placed[] = [];
  // Of one rank, those with the least room first.
  const order = (a: Label, b: Label) => a.rank - b.rank || (room.get(a.id) ?? 0) - (room.get(b.id) ?? 0);
  for (const label of [...labels].sort(order)) {
    let best: { box: Box; x: number; y: number; on: number } | null = null;
    for (const [x, y] of around(label)) {
      const box = boxAt(label, x, y);
      if (!isFree(box)) continue;
      const on = crossed.under(box);
      if (!best || on < best.on) best = { box, x, y, on };
      if (on === 0) break;
    }
    if (!best || (best.on > 0 && !label.must)) continue;
    taken.add(best.box);
    placed.push({ id: label.id, x: best.x, y: best.y });
  }
  return placed;
}

/** Centres of the places tried for a label, the likeliest first: its own side, below, above, beside, slantwise, farther off. */
function around(label: Label): [number, number][] {
  const { x, y, width, height, away } = label;
  const down = away + height / 2;
  if (label.upright)
    return [0, -30, 30, -60, 60].flatMap((aside) =>
      [0, -1, 1, -2, 2, -3, 3, -4, -5].map((step): [number, number] => [x + aside, y + (step * down) / 2]),
    );
  const [right, slant, low] = [away + 1 + width / 2, away - 1 + width / 2, away + 3];
  return [
    ...(label.side ? [[x + label.side * right, y] as [number, number]] : []),
    [x, y + down],
    [x, y - down],
    [x + right, y],
    [x - right, y],
    [x + slant, y + low],
    [x - slant, y + low],
    [x + slant, y - low],
    [x - slant, y - low],
    ...(label.close ? FARTHER.slice(0, 1) : FARTHER).flatMap((off) =>
      TURNS.map((turn): [number, number] => [
        x + Math.cos(turn) * (away + off + width / 2),
        y + Math.sin(turn) * (away + off + height / 2),
      ]),
    ),
  ];
}

function boxAt(label: Label, x: number, y: number): Box {
  const { width, height } = label;
  return { left: x - width / 2, top: y - height / 2, right: x + width / 2, bottom: y + height / 2 };
}

function isWithin(box: Box, edge: Box): boolean {
  return box.left >= edge.left && box.right <= edge.right && box.top >= edge.top && box.bottom <= edge.bottom;
}

function cellsOf(box: Box): string[] {
  const cells: string[] = [];
  for (let x = Math.floor(box.left / CELL); x <= Math.floor(box.right / CELL); x++)
    for (let y = Math.floor(box.top / CELL); y <= Math.floor(box.bottom / CELL); y++) cells.push(`${x} ${y}`);
  return cells;
}

export function overlap(one: Box, other: Box): boolean {
  return one.left < other.right && other.left < one.right && one.top < other.bottom && other.top < one.bottom;
}
