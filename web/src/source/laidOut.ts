/** A text as it is shown, and where a place of the original stands in it. */
export type LaidOut = {
  text: string;
  isLaidOut: boolean;
  at: (line: number, column: number) => { line: number; column: number };
  /** The part of the original that a line shows. */
  original: (line: number) => Span;
};
/** A part of a line, from a column up to another. */
export type Span = { line: number; column: number; end: number };

/** A line longer than this was written by a program, not to be read. */
const LONG = 400;
/** Objects and lists that fit so many characters stay on one line. */
const SHORT = 76;
/** Larger texts are shown as they are. */
const MOST = 4_000_000;
/** The end of a line, however long it is. */
const WHOLE = 2 ** 31 - 1;

/** A text for people to read: JSON of very long lines is broken into lines and indented; all else is left. */
export function laidOut(text: string): LaidOut {
  const asItIs = {
    text,
    isLaidOut: false,
    at: (line: number, column: number) => ({ line, column }),
    original: (line: number) => ({ line, column: 1, end: WHOLE }),
  };
  if (text.length > MOST || !/^\s*[{[]/.test(text) || !text.split("\n").some((line) => line.length > LONG))
    return asItIs;
  const ends = endsOfBrackets(text);
  if (!ends) return asItIs;
  return withPlaces(text, broken(text, ends));
}

/** Of each opening bracket, where it closes; null where brackets do not match. */
function endsOfBrackets(text: string): Map<number, number> | null {
  const ends = new Map<number, number>();
  const open: number[] = [];
  for (let at = 0; at < text.length; at++) {
    const character = text[at];
    if (character === '"') at = endOfString(text, at);
    else if (character === "{" || character === "[") open.push(at);
    else if (character === "}" || character === "]") {
      const start = open.pop();
      if (start === undefined) return null;
      ends.set(start, at);
    }
  }
  return open.length === 0 ? ends : null;
}

function endOfString(text: string, start: number): number {
  for (let at = start + 1; at < text.length; at++) {
    if (text[at] === "\\") at += 1;
    else if (text[at] === '"') return at;
  }
  return text.length;
}

/** Pieces of the original, each with the white space written before it. */
type Piece = { from: number; to: number; before: string };

function broken(text: string, ends: Map<number, number>): Piece[] {
  const pieces: Piece[] = [];
  let depth = 0;
  let before = "";
  const line = () => `\n${"  ".repeat(depth)}`;
  const put = (from: number, to: number) => {
    pieces.push({ from, to, before });
    before = "";
  };
  for (let at = 0; at < text.length; at++) {
    const character = text[at] as string;
    const end = ends.get(at);
    if (/\s/.test(character)) continue;
    if (end !== undefined && end - at < SHORT) {
      put(at, end + 1);
      at = end;
    } else if (end !== undefined) {
      put(at, at + 1);
      depth += 1;
      before = line();
    } else if (character === "}" || character === "]") {
      depth -= 1;
      before = line();
      put(at, at + 1);
    } else if (character === ",") {
      put(at, at + 1);
      before = line();
    } else if (character === ":") {
      put(at, at + 1);
      before = " ";
    } else if (character === '"') {
      const last = endOfString(text, at);
      put(at, last + 1);
      at = last;
    } else {
      let last = at + 1;
      while (last < text.length && !/[\s,:{}[\]"]/.test(text[last] as string)) last += 1;
      put(at, last);
      at = last - 1;
    }
  }
  return pieces;
}

function withPlaces(text: string, pieces: Piece[]): LaidOut {
  const starts: number[] = [];
  const parts: string[] = [];
  let length = 0;
  for (const piece of pieces) {
    length += piece.before.length;
    starts.push(length);
    parts.push(piece.before, text.slice(piece.from, piece.to).replace(/\s*\n\s*/g, " "));
    length += piece.to - piece.from;
  }
  const shown = parts.join("");
  const lines = lineStarts(text);
  const shownLines = lineStarts(shown);
  function at(line: number, column: number) {
    const offset = (lines[line - 1] ?? 0) + column - 1;
    const index = lastAtMost(pieces.length, (one) => pieces[one]?.from ?? 0, offset);
    const piece = pieces[index];
    const place = (starts[index] ?? 0) + Math.max(0, offset - (piece?.from ?? 0));
    const row = lastAtMost(shownLines.length, (one) => shownLines[one] ?? 0, place);
    return { line: row + 1, column: place - (shownLines[row] ?? 0) + 1 };
  }
  function offsetOf(place: number) {
    const index = lastAtMost(starts.length, (one) => starts[one] ?? 0, place);
    const piece = pieces[index];
    return Math.min(piece?.to ?? 0, (piece?.from ?? 0) + Math.max(0, place - (starts[index] ?? 0)));
  }
  function original(line: number) {
    const [from, to] = [shownLines[line - 1] ?? 0, (shownLines[line] ?? shown.length + 1) - 1];
    // The line's own white space belongs to the piece before: what is meant begins behind it.
    const first = from + (/^\s*/.exec(shown.slice(from, to))?.[0].length ?? 0);
    const [start, end] = [offsetOf(first), offsetOf(to)];
    const row = lastAtMost(lines.length, (one) => lines[one] ?? 0, start);
    return { line: row + 1, column: start - (lines[row] ?? 0) + 1, end: end - (lines[row] ?? 0) + 1 };
  }
  return { text: shown, isLaidOut: true, at, original };
}

function lineStarts(text: string): number[] {
  const starts = [0];
  for (let at = text.indexOf("\n"); at >= 0; at = text.indexOf("\n", at + 1)) starts.push(at + 1);
  return starts;
}

/** The last index whose value is not above a limit; 0 where there is none. */
function lastAtMost(count: number, value: (index: number) => number, limit: number): number {
  let [low, high] = [0, count - 1];
  while (low < high) {
    const middle = Math.ceil((low + high) / 2);
    if (value(middle) <= limit) low = middle;
    else high = middle - 1;
  }
  return low;
}
