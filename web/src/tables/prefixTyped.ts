/** The prefix that somebody types, also before it is whole: `20.33` is 20.33.0.0/16; '' for what is none. */
export function prefixTyped(text: string): string {
  const typed = text.trim();
  if (/^[0-9a-fA-F:]*:[0-9a-fA-F:.]*\/\d{1,3}$/.test(typed)) return typed;
  const found = /^(\d{1,3}(?:\.\d{1,3}){0,3})\.?(?:\/(\d{1,2}))?$/.exec(typed);
  if (!found) return "";
  const parts = (found[1] ?? "").split(".").map(Number);
  const length = found[2] === undefined ? 8 * parts.length : Number(found[2]);
  if (parts.some((part) => part > 255) || length > 32 || (found[2] !== undefined && parts.length < 4))
    return "";
  const address = [0, 1, 2, 3].map((at) => parts[at] ?? 0);
  // Bits beyond the length are of no meaning to whoever types.
  const masked = address.map(
    (part, at) => part & (0xff << Math.min(8, Math.max(0, 8 * (at + 1) - length))) & 0xff,
  );
  return `${masked.join(".")}/${length}`;
}
