import type { Question } from "../api/answers";
import { stateOf } from "../frame/context";
import { parseTyped, typedForm } from "./sentence";

/** A flow that is shown beside others: a question, and the revision where it is not the one that is looked at. */
export type Beside = { question: Question; revision: number | null };

/** So many stand side by side. */
export const MOST_BESIDE = 6;

/** As one line of an address: `a > b tcp/443@3`. */
export function besideText({ question, revision }: Beside): string {
  return `${typedForm(question)}${revision === null ? "" : `@${revision}`}`;
}

/** What a line says, or what is wrong with it. */
export function parseBeside(line: string): Beside | string {
  const [, before = "", number] = /^(.*?)(?:@(\d{1,9}))?$/s.exec(line.trim()) ?? [];
  const question = parseTyped(before);
  if (typeof question === "string") return question;
  return { question, revision: number === undefined ? null : Number(number) };
}

/** The flows that an address holds; lines that say nothing are left out. */
export function besidesOf(search: URLSearchParams): Beside[] {
  return search
    .getAll("ask")
    .map(parseBeside)
    .filter((one) => typeof one !== "string")
    .slice(0, MOST_BESIDE);
}

/** An address's query with other flows in it. */
export function withBesides(search: URLSearchParams, besides: Beside[]): URLSearchParams {
  const next = new URLSearchParams(stateOf(search));
  for (const one of besides) next.append("ask", besideText(one));
  return next;
}
