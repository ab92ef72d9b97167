import type { Question } from "../api/answers";

/** The question a URL holds. */
export function questionOf(search: URLSearchParams): Question {
  return {
    from: search.get("from") ?? "",
    to: search.get("to") ?? "",
    service: search.get("on") ?? "icmp",
    enter: search.get("enter") ?? "",
  };
}

/** A URL's query with another question in it; what else it holds stays, the chosen stop does not. */
export function withQuestion(search: URLSearchParams, question: Question): URLSearchParams {
  const next = new URLSearchParams(search);
  const values = { from: question.from, to: question.to, on: question.service, enter: question.enter };
  for (const [key, value] of Object.entries(values)) {
    if (value) next.set(key, value);
    else next.delete(key);
  }
  next.delete("at");
  return next;
}

/** Both ends exchanged; where a packet comes in belongs to its source and is dropped. */
export function swapped(question: Question): Question {
  return { ...question, from: question.to, to: question.from, enter: "" };
}

/** The question as one line: `a > b tcp/443 by device:interface`. */
export function typedForm(question: Question): string {
  const enter = question.enter ? ` by ${question.enter}` : "";
  return `${question.from} > ${question.to} ${question.service}${enter}`.trim();
}

/** The question of a typed line, or what is wrong with it. */
export function parseTyped(line: string): Question | string {
  const [before, after, ...more] = line.split(">").map((part) => part.trim());
  if (!before || !after || more.length > 0)
    return "Write it as: from > to service, like kiosk > shop tcp/443";
  if (/\s/.test(before)) return `“${before}” is more than one word: write from > to service`;
  const words = after.split(/\s+/);
  const to = words.shift() ?? "";
  let enter = "";
  const by = words.indexOf("by");
  if (by >= 0) {
    enter = words[by + 1] ?? "";
    if (!enter) return "After “by” comes device:interface";
    words.splice(by, 2);
  }
  if (words.length > 1) return `“${words.slice(1).join(" ")}” is one word too many: write from > to service`;
  return { from: before, to, service: words[0] ?? "icmp", enter };
}
