/** Give the browser a text to save as a file. */
export function download(name: string, text: string, type: string) {
  const url = URL.createObjectURL(new Blob([text], { type }));
  const link = document.createElement("a");
  link.href = url;
  link.download = name;
  link.click();
  URL.revokeObjectURL(url);
}

/**
 * Rows as CSV (RFC 4180). A cell that a spreadsheet would take for a formula gets an apostrophe before it:
 * names and descriptions of a network are other people's text.
 */
export function csv(rows: (string | number | null)[][]): string {
  return rows.map((row) => row.map(cell).join(",")).join("\r\n");
}

function cell(value: string | number | null): string {
  const text = value === null ? "" : String(value);
  const safe = /^[=+\-@\t\r]/.test(text) && typeof value !== "number" ? `'${text}` : text;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}
