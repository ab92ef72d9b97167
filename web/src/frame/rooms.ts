/** The rooms of a network and the views in each, in the order of the frame and of find.
 *
 * A room has a key; pressed again it goes on to the room's next view. An address of old leads on.
 */
export const ROOMS = [
  {
    label: "Flow",
    key: "1",
    views: [
      { to: "flow", label: "one" },
      { to: "flow/beside", label: "side by side" },
    ],
  },
  {
    label: "Routes",
    key: "2",
    views: [
      { to: "routes", label: "everywhere" },
      { to: "routes/table", label: "table" },
      { to: "routes/policies", label: "policies" },
    ],
  },
  {
    label: "Model",
    key: "3",
    views: [
      { to: "model", label: "understood" },
      { to: "model/problems", label: "problems" },
      { to: "model/source", label: "source" },
      { to: "model/revisions", label: "revisions" },
      { to: "model/changes", label: "changes" },
      { to: "model/edit", label: "edit" },
    ],
  },
  {
    label: "History",
    key: "4",
    views: [{ to: "history", label: "what happened" }],
  },
  {
    label: "Expect",
    key: "5",
    views: [
      { to: "expect", label: "expected" },
      { to: "expect/maintenance", label: "maintenance" },
    ],
  },
] as const;

export type Room = (typeof ROOMS)[number];
export type View = Room["views"][number];
export type ViewPath = View["to"];

export const MOVED: Record<string, ViewPath> = {
  table: "routes/table",
  policies: "routes/policies",
  problems: "model/problems",
  source: "model/source",
  revisions: "model/revisions",
  "model/expected": "expect",
  "model/maintenance": "expect/maintenance",
};

/** The view that an address shows: what follows the network's own. */
export function viewAt(path: string): View | undefined {
  return ROOMS.flatMap((room): readonly View[] => room.views).find((view) => view.to === path);
}

/** Where a room's key leads from a view: to the room, or, being in it, to its next view. */
export function nextIn(room: Room, from: string): ViewPath {
  const views: readonly View[] = room.views;
  const at = views.findIndex((view) => view.to === from);
  return (views[(at + 1) % views.length] ?? room.views[0]).to;
}
