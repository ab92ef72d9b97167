/** A label that wants to stand beside a point; the lower `rank` goes first. */
export type Label = {
  id: string;
  x: number;
  y: number;
  width: number;
  height: number;
  rank: number;
  /** Keeps its column: it moves up and down only. */
  upright?: boolean;
};
export type Placed = { id: string; x: number; y: number };
type Box = { left: number; top: number; right: number; bottom: number };

const GAP = 10;

/** Places for labels so that none overlaps another or a mark: one for which there is no room is left out. */
export function placeLabels(labels: Label[], marks: { x: number; y: number; radius: number }[]): Placed[] {
  const grid = new Map<string, Box[]>();
  const cellsOf = (box: Box) => {
    const cells: string[] = [];
    for (let x = Math.floor(box.left / 80); x <= Math.floor(box.right / 80); x++)
      for (let y = Math.floor(box.top / 80); y <= Math.floor(box.bottom / 80); y++) cells.push(`${x} ${y}`);
    return cells;
  };
  const add = (box: Box) => {
    for (const cell of cellsOf(box)) {
      const boxes = grid.get(cell);
      if (boxes) boxes.push(box);
      else grid.set(cell, [box]);
    }
  };
  const isFree = (box: Box) =>
    cellsOf(box).every((cell) => (grid.get(cell) ?? []).every((other) => !overlap(box, other)));
  for (const mark of marks) {
    const { x, y, radius } = mark;
    add({ left: x - radius, top: y - radius, right: x + radius, bottom: y + radius });
  }
  const placed: Placed[] = [];
  for (const label of [...labels].sort((a, b) => a.rank - b.rank)) {
    for (const [x, y] of around(label)) {
      const box = boxAt(label, x, y);
      if (isFree(box)) {
        add(box);
        placed.push({ id: label.id, x, y });
        break;
      }
    }
  }
  return placed;
}

/** Centres of the places tried for a label, the likeliest first: below, above, right, left, then slantwise. */
function around(label: Label): [number, number][] {
  const { x, y, width, height } = label;
  if (label.upright) return [0, 1, -1, 2, -2].map((step) => [x, y + step * (GAP + height / 2)]);
  return [
    [x, y + GAP + height / 2],
    [x, y - GAP - height / 2],
    [x + GAP + width / 2, y],
    [x - GAP - width / 2, y],
    [x + 9 + width / 2, y + 13],
    [x - 9 - width / 2, y + 13],
    [x + 9 + width / 2, y - 13],
    [x - 9 - width / 2, y - 13],
  ];
}

function boxAt(label: Label, x: number, y: number): Box {
  const { width, height } = label;
  return { left: x - width / 2, top: y - height / 2, right: x + width / 2, bottom: y + height / 2 };
}

export function overlap(one: Box, other: Box): boolean {
  return one.left < other.right && other.left < one.right && one.top < other.bottom && other.top < one.bottom;
}
