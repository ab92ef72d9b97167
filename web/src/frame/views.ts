/** The views of a network, in the order of the frame and of find; each with the word of its address and its key. */
export const VIEWS = [
  { to: "flow", label: "Flow", key: "1" },
  { to: "routes", label: "Routes", key: "2" },
  { to: "table", label: "Table", key: "3" },
  { to: "policies", label: "Policies", key: "4" },
  { to: "problems", label: "Problems", key: "5" },
  { to: "source", label: "Source", key: "6" },
  { to: "revisions", label: "Revisions", key: "7" },
] as const;

export type ViewName = (typeof VIEWS)[number]["to"];
