const UNITS = [
  ["d", 86_400],
  ["h", 3_600],
  ["min", 60],
  ["s", 1],
] as const;

/** A length of time in its two largest units: `2 h 5 min`. */
export function lengthText(seconds: number): string {
  let left = Math.round(seconds);
  const parts: string[] = [];
  for (const [unit, size] of UNITS) {
    const count = Math.floor(left / size);
    left -= count * size;
    if (count) parts.push(`${count} ${unit}`);
    if (parts.length === 2) break;
  }
  return parts.join(" ") || "0 s";
}

/** A part of one as per cent, never 100 % where something is missing. */
export function percentText(part: number): string {
  if (part === 1) return "100 %";
  const text = (part * 100).toFixed(part > 0.99 ? 3 : 1);
  return `${text.startsWith("100") ? "99.999" : text} %`;
}
