import { Link, useSearchParams } from "react-router";
import type { Question } from "../api/answers";
import { useAsked, useForget, useStar } from "../api/queries";
import { useCurrentNetwork } from "../frame/context";
import { Key } from "../ui/Key";
import { VERDICT_WORDS, type Verdict, VerdictMark, verdictTone } from "../ui/marks";
import { useTimes } from "../ui/times";
import { useKeys } from "../ui/useKeys";
import { changeOf, isOf, questionOfAsked } from "./asked";
import { typedForm, withQuestion } from "./sentence";

/** The star of a question: a starred one is asked again of every new revision. */
export function Star({ question }: { question: Question }) {
  const { network } = useCurrentNetwork();
  const asked = useAsked(network.id).data?.find((one) => isOf(one, question));
  const star = useStar(network.id);
  const toggle = () => asked && star.mutate({ id: asked.id, starred: !asked.starred });
  useKeys({ "*": toggle });
  if (!asked) return null;
  return (
    <button
      type="button"
      aria-pressed={asked.starred}
      title="a starred flow is asked again of every new revision"
      className={asked.starred ? "text-ink font-semibold" : "hover:text-ink"}
      onClick={toggle}
    >
      {asked.starred ? "starred" : "star"} <Key>*</Key>
    </button>
  );
}

/** What the same question was answered on other revisions: the record of a repair. */
export function EarlierAnswers({ question }: { question: Question }) {
  const { network, revision } = useCurrentNetwork();
  const [search] = useSearchParams();
  const shownTime = useTimes();
  const asked = useAsked(network.id).data?.find((one) => isOf(one, question));
  const others = asked?.answers.filter((answer) => answer.revision !== revision.number) ?? [];
  if (others.length === 0) return null;
  return (
    <section className="px-4 py-2" aria-labelledby="before-title" data-testid="asked-before">
      <h3 id="before-title" className="text-faint text-sm">
        asked before
      </h3>
      <ol>
        {others.map((answer) => {
          const there = new URLSearchParams(search);
          there.set("revision", String(answer.revision));
          return (
            <li key={answer.revision} className="border-t border-hair/70 py-1 flex gap-3 items-baseline">
              <Link className="underline underline-offset-2 shrink-0" to={`?${there}`}>
                revision {answer.revision}
              </Link>
              <Verdicts forward={answer.forward} back={answer.back ?? ""} />
              <span className="text-faint text-sm truncate" title={answer.cause}>
                {answer.cause}
              </span>
              <span className="text-faint text-sm ml-auto shrink-0">{shownTime(answer.asked_at)}</span>
            </li>
          );
        })}
      </ol>
    </section>
  );
}

function Verdicts({ forward, back }: { forward: string; back: string }) {
  return (
    <span className="whitespace-nowrap">
      <OneVerdict verdict={forward as Verdict} />
      {back && (
        <>
          <span className="text-faint">, answer </span>
          <OneVerdict verdict={back as Verdict} />
        </>
      )}
    </span>
  );
}

function OneVerdict({ verdict }: { verdict: Verdict }) {
  return (
    <span className={verdictTone(verdict)}>
      <VerdictMark verdict={verdict} size={12} /> {VERDICT_WORDS[verdict]}
    </span>
  );
}

/** All that was asked of this network before, starred first, with what became of it. */
export function AskedList() {
  const { network } = useCurrentNetwork();
  const [search] = useSearchParams();
  const asked = useAsked(network.id);
  const forget = useForget(network.id);
  const star = useStar(network.id);
  if (!asked.data?.length) return null;
  return (
    <div className="mt-5" data-testid="asked-list">
      <p className="mb-1">Asked before</p>
      <ul>
        {asked.data.map((one) => {
          const question = questionOfAsked(one);
          const last = one.answers[0];
          return (
            <li key={one.id} className="border-t border-hair/70 py-1 flex flex-wrap gap-x-3 items-baseline">
              <button
                type="button"
                aria-pressed={one.starred}
                aria-label={`star ${typedForm(question)}`}
                className={one.starred ? "text-ink" : "text-faint hover:text-ink"}
                onClick={() => star.mutate({ id: one.id, starred: !one.starred })}
              >
                {one.starred ? "★" : "☆"}
              </button>
              <Link
                className="mono text-forward underline underline-offset-2"
                to={`/networks/${network.id}/flow?${withQuestion(search, question)}`}
              >
                {typedForm(question)}
              </Link>
              {last && <Verdicts forward={last.forward} back={last.back ?? ""} />}
              <button
                type="button"
                className="ml-auto text-faint text-sm hover:text-ink"
                aria-label={`forget ${typedForm(question)}`}
                onClick={() => forget.mutate(one.id)}
              >
                forget
              </button>
              {changeOf(one) && <span className="basis-full pl-7 text-faint text-sm">{changeOf(one)}</span>}
            </li>
          );
        })}
      </ul>
    </div>
  );
}
