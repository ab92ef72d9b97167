import { type FormEvent, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import type { Question } from "../api/answers";
import { With } from "../trials/With";
import { Key } from "../ui/Key";
import { useKeys } from "../ui/useKeys";
import { AsOf } from "./AsOf";
import { parseTyped, questionOf, swapped, typedForm, withQuestion } from "./sentence";
import { ServiceBox, WordBox } from "./WordBox";

/** The question, always at the top: every word of it edited in place, or all of it typed as one line. */
export function Sentence() {
  const [search, setSearch] = useSearchParams();
  const question = questionOf(search);
  const [typing, setTyping] = useState(false);
  const from = useRef<HTMLInputElement>(null);
  const to = useRef<HTMLInputElement>(null);
  const service = useRef<HTMLInputElement>(null);
  const asOf = useRef<HTMLButtonElement>(null);
  const withTrial = useRef<HTMLButtonElement>(null);

  const ask = (next: Question) => setSearch(withQuestion(search, next));
  const swap = () => ask(swapped(question));
  useKeys({
    x: swap,
    f: () => from.current?.focus(),
    t: () => to.current?.focus(),
    o: () => service.current?.focus(),
    a: () => asOf.current?.click(),
    y: () => withTrial.current?.click(),
    "/": () => setTyping(true),
  });

  if (typing) {
    return (
      <TypedLine
        question={question}
        done={(next) => {
          setTyping(false);
          if (next) ask(next);
        }}
      />
    );
  }
  return (
    <section
      className="px-4 py-2 text-[19px] flex flex-wrap items-baseline gap-x-2 gap-y-1 border-b border-hair"
      aria-label="the question"
    >
      <span className="text-faint">from</span>
      <WordBox
        label="from"
        value={question.from}
        inputRef={from}
        choose={(word) => ask({ ...question, from: word })}
      />
      <span className="text-faint">to</span>
      <WordBox
        label="to"
        value={question.to}
        inputRef={to}
        choose={(word) => ask({ ...question, to: word })}
      />
      <span className="text-faint">on</span>
      <ServiceBox
        label="on"
        value={question.service}
        inputRef={service}
        choose={(word) => ask({ ...question, service: word })}
      />
      <span className="text-faint">entering</span>
      <WordBox
        label="entering"
        value={question.enter}
        placeholder="anywhere"
        choose={(word) => ask({ ...question, enter: word })}
      />
      {question.enter && (
        <button type="button" className="text-sm text-faint" onClick={() => ask({ ...question, enter: "" })}>
          anywhere
        </button>
      )}
      <span className="text-faint">
        as of <AsOf buttonRef={asOf} />
      </span>
      <span className="text-faint">
        with <With buttonRef={withTrial} />
      </span>
      <span className="ml-auto flex gap-4 text-sm text-faint">
        <button type="button" onClick={swap} className="hover:text-ink">
          swap ends <Key>x</Key>
        </button>
        <button type="button" onClick={() => setTyping(true)} className="hover:text-ink">
          type it <Key>/</Key>
        </button>
      </span>
    </section>
  );
}

function TypedLine({ question, done }: { question: Question; done: (next: Question | null) => void }) {
  const [line, setLine] = useState(question.from || question.to ? typedForm(question) : "");
  const [problem, setProblem] = useState("");

  function submit(event: FormEvent) {
    event.preventDefault();
    const parsed = parseTyped(line);
    if (typeof parsed === "string") setProblem(parsed);
    else done(parsed);
  }

  return (
    <form onSubmit={submit} className="px-4 py-2 text-[19px] border-b border-hair flex gap-4 items-baseline">
      <input
        // biome-ignore lint/a11y/noAutofocus: the line was asked for by a key
        autoFocus
        aria-label="the question as one line"
        value={line}
        placeholder="from > to service"
        onChange={(event) => setLine(event.target.value)}
        onKeyDown={(event) => event.key === "Escape" && done(null)}
        onFocus={(event) => event.target.select()}
        spellCheck={false}
        className="mono flex-1 bg-transparent border-b border-faint"
      />
      {problem && (
        <span role="alert" className="text-sm text-stop">
          {problem}
        </span>
      )}
      <span className="text-sm text-faint">
        ask <Key>Enter</Key> leave <Key>Esc</Key>
      </span>
    </form>
  );
}
