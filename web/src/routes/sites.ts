import type { Forest } from "../api/client";

type Site = Forest["sites"][number];

/** Sites whose traffic leaves in the same way, joined; those that get out come first. */
export function sitesAlike(sites: Site[]): { names: string[]; borders: Site["borders"]; ends: string[] }[] {
  const found = new Map<string, { names: string[]; borders: Site["borders"]; ends: string[] }>();
  for (const site of sites) {
    const how = site.borders.map((border) => `${border.device} ${border.interface} ${border.onward}`);
    const key = [...how, "|", ...site.ends].join("\n");
    const standing = found.get(key);
    if (standing) standing.names.push(site.label);
    else found.set(key, { names: [site.label], borders: site.borders, ends: site.ends });
  }
  return [...found.values()].sort((a, b) => Number(b.borders.length > 0) - Number(a.borders.length > 0));
}
