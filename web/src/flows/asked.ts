import type { Question } from "../api/answers";
import type { Asked } from "../api/client";

/** Whether what was asked before is this question. */
export function isOf(asked: Asked, question: Question): boolean {
  return (
    asked.from === question.from &&
    asked.to === question.to &&
    asked.service === (question.service || "icmp") &&
    (asked.enter ?? "") === question.enter
  );
}

/** What changed with the last answer: `since revision 3; before, blocked`; '' where nothing did. */
export function changeOf(asked: Asked): string {
  const [last, ...earlier] = asked.answers;
  if (!last) return "";
  const same = (one: Asked["answers"][number]) => one.forward === last.forward && one.back === last.back;
  const at = earlier.findIndex((one) => !same(one));
  const before = earlier[at];
  if (!before) return "";
  const since = at === 0 ? last : earlier[at - 1];
  const back = before.back && before.back !== last.back ? `, answer ${before.back}` : "";
  return `since revision ${since?.revision}; before, ${before.forward}${back}`;
}

/** The question of what was asked before. */
export function questionOfAsked(one: Asked): Question {
  return { from: one.from, to: one.to, service: one.service, enter: one.enter ?? "" };
}
