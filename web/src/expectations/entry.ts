/** An expectation as its file has it, but for its name. */
export type Entry = {
  from: string[];
  to: string[];
  on: string[];
  expect: "works" | "arrives" | "never arrives";
  enter?: string;
  passes?: string[];
  avoids?: string[];
  same_way_back?: boolean;
  hops?: number;
  mtu?: number;
  ways?: number;
  apart?: string;
  survives?: string[];
  severity: string;
  owner: string;
  note: string;
  tags: string[];
};

/** What may be asked of a way besides, with the value it begins with, and how it is offered. */
export const CLAUSES = {
  passes: { begins: [], offered: "passes" },
  avoids: { begins: [], offered: "avoids" },
  same_way_back: { begins: true, offered: "same way back" },
  hops: { begins: 5, offered: "hops" },
  mtu: { begins: 1500, offered: "packet size" },
  ways: { begins: 2, offered: "separate ways" },
  survives: { begins: [], offered: "survives" },
} as const satisfies Partial<Record<keyof Entry, { begins: unknown; offered: string }>>;

export type Clause = keyof typeof CLAUSES;

export const NEW_ENTRY: Entry = {
  from: [],
  to: [],
  on: [],
  expect: "works",
  severity: "error",
  owner: "",
  note: "",
  tags: [],
};

const LISTS = new Set(["from", "to", "on", "passes", "avoids", "survives"]);

/** An entry as it is edited: what may be one word or a list as a list, what is left out with its value. */
export function editable(data: Record<string, unknown>): Entry {
  const found = Object.entries(data).map(([key, value]) => [
    key,
    LISTS.has(key) && typeof value === "string" ? [value] : value,
  ]);
  return { ...NEW_ENTRY, ...Object.fromEntries(found) };
}

/** An entry as its file would have it: one word alone is no list, and what goes without saying is not said. */
export function written(entry: Entry): Record<string, unknown> {
  const kept = Object.entries(entry).filter(([key, value]) => {
    if (key === "expect") return value !== "works";
    if (key === "severity") return value !== "error";
    if (key === "apart") return entry.ways !== undefined && value !== "links";
    return Array.isArray(value) ? value.length > 0 : value !== "" && value !== undefined && value !== false;
  });
  return Object.fromEntries(
    kept.map(([key, value]) => [
      key,
      LISTS.has(key) && Array.isArray(value) && value.length === 1 ? value[0] : value,
    ]),
  );
}

/** What an entry lacks, in words; empty where it can be expected. */
export function lacks(name: string, entry: Entry): string {
  if (!name.trim()) return "a name";
  if (entry.from.length === 0) return "a place it comes from";
  if (entry.to.length === 0) return "a place it goes to";
  return "";
}

/** What never arrives goes no way: of it nothing else is asked. */
export function expecting(entry: Entry, expect: Entry["expect"]): Entry {
  const next = { ...entry, expect };
  if (expect === "never arrives")
    for (const clause of [...Object.keys(CLAUSES), "apart"] as (Clause | "apart")[]) delete next[clause];
  if (expect === "arrives") delete next.same_way_back;
  return next;
}
