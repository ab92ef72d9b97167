import { type Box, boxAround, type Layout } from "./geometry";

/** Where the layout's origin stands in the pane, in pixels, and how many pixels its unit is. */
export type View = { scale: number; x: number; y: number };
export type Size = { width: number; height: number };

/** Room for the names at the edges: the names of sites above, those of devices beside. */
const MARGIN = { least: 60, most: 130, y: 54 };
const CHARACTER = 6.9;
/** What stands at the foot of the pane. */
const FOOT = 30;
/** How much wider or taller than it was made a layout is drawn to fill its pane. */
const MOST_STRETCHED = 2.2;
const LARGEST = 2.2;

/** How far a layout is stretched across and down so that it has the shape of its pane. */
export function stretchFor(layout: Layout, size: Size): [number, number] {
  const box = boxAround(layout.devices.values());
  const [width, height] = [box.right - box.left, box.bottom - box.top];
  const room = { x: size.width - 2 * marginOf(layout), y: size.height - 2 * MARGIN.y };
  if (!(width > 1 && height > 1) || room.x <= 0 || room.y <= 0) return [1, 1];
  const wider = room.x / width / (room.y / height);
  const across = Math.sqrt(Math.min(MOST_STRETCHED, Math.max(1 / MOST_STRETCHED, wider)));
  return [across, 1 / across];
}

/** How far the names of devices reach beyond the outermost. */
function marginOf(layout: Layout): number {
  let longest = 0;
  for (const name of layout.devices.keys()) longest = Math.max(longest, name.length);
  return Math.min(MARGIN.most, Math.max(MARGIN.least, 20 + longest * CHARACTER));
}

/** The view that shows a whole layout. */
export function fitted(layout: Layout, size: Size): View {
  if (layout.devices.size === 0 || size.width === 0) return { scale: 1, x: 0, y: 0 };
  const { left, right, top, bottom } = boxAround(layout.devices.values());
  const room = (all: number, margin: number) => Math.max(all / 2, all - 2 * margin);
  const scale = Math.min(
    LARGEST,
    room(size.width, marginOf(layout)) / Math.max(1, right - left),
    room(size.height, MARGIN.y) / Math.max(1, bottom - top),
  );
  return {
    scale,
    x: size.width / 2 - (scale * (left + right)) / 2,
    y: (size.height - FOOT / 2) / 2 - (scale * (top + bottom)) / 2,
  };
}

/** A view nearer or farther by a factor, the given point of the pane staying where it is. */
export function zoomed(view: View, factor: number, at: { x: number; y: number }): View {
  const scale = Math.min(8, Math.max(0.02, view.scale * factor));
  const ratio = scale / view.scale;
  return { scale, x: at.x - (at.x - view.x) * ratio, y: at.y - (at.y - view.y) * ratio };
}

const CUT = 300;

/** The part of a picture near the pane, in steps, so that a pan draws anew only now and then. */
export function near(view: View, size: Size): Box {
  const left = Math.floor(-view.x / CUT) * CUT - CUT;
  const top = Math.floor(-view.y / CUT) * CUT - CUT;
  return { left, top, right: left + size.width + 3 * CUT, bottom: top + size.height + 3 * CUT };
}

/** The part of a picture that the pane shows. */
export function seen(view: View, size: Size): Box {
  return { left: -view.x, top: -view.y, right: size.width - view.x, bottom: size.height - FOOT - view.y };
}
