import type { Strand, Walk } from "../api/client";

/** An answer as plain text for a ticket: the question, both verdicts, the ways, causes and remedies. */
export function answerText(walk: Walk, network: string, asOf: string, url: string): string {
  const lines = [
    `${walk.from.word} > ${walk.to.word} ${walk.service}`,
    `${network}, as of ${asOf}`,
    "",
    ...walk.parts.map((part) => `ports ${part.ports.join(", ")}: ${part.verdict}`),
    ...strandLines("forward", walk.forward),
  ];
  if (walk.return) lines.push("", ...strandLines("return", walk.return));
  if (walk.forward_note) lines.push(`  (${walk.forward_note})`);
  if (walk.return_note) lines.push(`  (${walk.return_note})`);
  return [...lines, "", url].join("\n");
}

function strandLines(title: string, strand: Strand): string[] {
  const ways = `${strand.path_count} way${strand.path_count === 1 ? "" : "s"}`;
  const size = strand.mtu ? `, largest packet ${strand.mtu.largest_packet}` : "";
  const lines = [`${title}: ${strand.verdict}, ${ways}${size}`];
  for (const path of strand.paths.slice(0, 8)) lines.push(`  ${path.join(" > ")}`);
  for (const cause of strand.causes) {
    const at = cause.place ? ` [${cause.place.file}:${cause.place.line}]` : "";
    lines.push(`  stopped at ${cause.device}: ${cause.message}${at}`);
    for (const end of cause.trail) lines.push(`    the route: ${end.message}`);
    if (cause.remedy) lines.push(`    ${cause.remedy.message}: ${cause.remedy.text}`);
  }
  return lines;
}
