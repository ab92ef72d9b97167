import type { components } from "../api/schema.gen";

type Found = components["schemas"]["Found"];
export type Action = { label: string; detail: string; run: () => void };

/** Where something that was found leads: to a question from it or to it, to its table, to every route, to its line. */
export function leadsOf(
  found: Found,
  ask: (key: "from" | "to", word: string) => void,
  show: (view: string, words: Record<string, string>) => void,
): Action[] {
  const { word, kind, detail, device, vrf, place } = found;
  const about = `${kind} ${detail}`.trim();
  const line = (label: string): Action[] =>
    place
      ? [
          {
            label: word,
            detail: label,
            run: () => show("model/source", { file: place.file, line: String(place.line) }),
          },
        ]
      : [];
  const table = (label: string): Action => ({
    label: word,
    detail: label,
    run: () => show("routes/table", { device, ...(vrf && vrf !== "default" ? { vrf } : {}) }),
  });
  const asked: Action[] = [
    { label: word, detail: `ask from here · ${about}`, run: () => ask("from", word) },
    { label: word, detail: "ask to here", run: () => ask("to", word) },
  ];
  switch (kind) {
    case "prefix":
      return [
        { label: word, detail: `every route · ${about}`, run: () => show("routes", { to: word }) },
        ...line("its line"),
      ];
    case "policy":
      return [
        {
          label: word,
          detail: `what it does · ${about}`,
          run: () => show("routes/policies", { device, policy: word }),
        },
        ...line("its line"),
      ];
    case "routing instance":
      return [table(`its table · ${about}`)];
    case "session":
      return [...line(`its line · ${about}`), table(`the table of ${device}`)];
    case "ACL":
    case "forwarding policy":
    case "entry":
    case "virtual router":
      return line(about);
    case "interface":
    case "on subnet":
      return [{ label: word, detail: `ask to here · ${about}`, run: () => ask("to", word) }];
    case "endpoint":
    case "owner":
      return asked;
    default:
      return [...asked, table("its table")];
  }
}
