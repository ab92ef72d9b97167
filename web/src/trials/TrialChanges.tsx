import { type FormEvent, useContext, useEffect, useRef } from "react";
import { useTried } from "../api/answers";
import type { ApiError, Change, Trial, TriedChange } from "../api/client";
import { useChangeTrial } from "../api/trials";
import { useCurrentNetwork } from "../frame/context";
import { Alert } from "../ui/Alert";
import { Key } from "../ui/Key";
import { useKeys } from "../ui/useKeys";
import { WritingLine } from "./writing";

/** The changes of a trial in words, a switch on each, and a line to write another on. */
export function TrialChanges({ trial }: { trial: Trial }) {
  const { revision } = useCurrentNetwork();
  const tried = useTried(revision);
  const change = useChangeTrial(revision);
  const keep = (changes: Change[]) => change.mutate({ changes });
  return (
    <section className="px-3 py-2 border-b border-hair" aria-label="changes">
      {trial.changes.length === 0 && (
        <p className="text-faint">
          No change yet. Try a remedy or a tipping point where it stands, or write one here.
        </p>
      )}
      <ol data-testid="changes-tried">
        {trial.changes.map((one, index) => (
          <ChangeLine
            // biome-ignore lint/suspicious/noArrayIndexKey: a change is told by its place in the list
            key={index}
            number={index + 1}
            change={one}
            tried={tried.data?.changes[index]}
            isBusy={change.isPending}
            put={(next) =>
              keep(trial.changes.flatMap((other, at) => (at !== index ? [other] : next ? [next] : [])))
            }
          />
        ))}
      </ol>
      <NewLine />
      {change.error && <Alert>{change.error.message}</Alert>}
      {tried.error && <Alert>{tried.error.message}</Alert>}
    </section>
  );
}

function ChangeLine({
  number,
  change,
  tried,
  isBusy,
  put,
}: {
  number: number;
  change: Change;
  tried: TriedChange | undefined;
  isBusy: boolean;
  put: (change: Change | null) => void;
}) {
  const isOff = change.off === true;
  const words = tried?.words ?? "…";
  const { off: _off, ...on } = change;
  return (
    <li className="flex gap-2 py-1 border-t first:border-t-0 border-hair/70" data-state={tried?.state}>
      <input
        type="checkbox"
        checked={!isOff}
        disabled={isBusy}
        aria-label={`change ${number} is made`}
        onChange={() => put(isOff ? on : { ...change, off: true })}
        className="mt-1 accent-(--good)"
      />
      <div className="min-w-0 flex-1 leading-snug">
        <span className={isOff ? "text-faint line-through" : "break-words"}>{words}</span>
        {tried?.remark && <span className="block text-return text-[13px]">{tried.remark}</span>}
        {tried?.problems.map((problem) => (
          <span key={problem.message} className="block text-stop text-[13px]">
            {problem.message}
            {problem.found && (
              <>
                ; found <span className="mono">{problem.found}</span>
              </>
            )}
            {problem.allowed && `; allowed: ${problem.allowed}`}
            {problem.nearest && `; did you mean ${problem.nearest}?`}
          </span>
        ))}
      </div>
      <button
        type="button"
        aria-label={`take out change ${number}`}
        title="take it out"
        disabled={isBusy}
        onClick={() => put(null)}
        className="text-faint hover:text-stop self-start"
      >
        ×
      </button>
    </li>
  );
}

/** A change written as one line, as the command line takes it. */
function NewLine() {
  const { revision } = useCurrentNetwork();
  const change = useChangeTrial(revision);
  const { line, write: setLine } = useContext(WritingLine);
  const field = useRef<HTMLInputElement>(null);
  // A line that was begun elsewhere is gone on with here.
  useEffect(() => {
    if (line && document.activeElement !== field.current) field.current?.focus();
  }, [line]);
  useKeys({ i: () => field.current?.focus() });
  function submit(event: FormEvent) {
    event.preventDefault();
    if (line.trim()) change.mutate({ line }, { onSuccess: () => setLine("") });
  }
  return (
    <form onSubmit={submit} className="mt-1">
      <label className="flex items-baseline gap-2">
        <span className="text-faint whitespace-nowrap">
          add <Key>i</Key>
        </span>
        <input
          ref={field}
          aria-label="a change as one line"
          value={line}
          placeholder="set: cost, at: r1:e1, to: 40"
          spellCheck={false}
          onChange={(event) => setLine(event.target.value)}
          onKeyDown={(event) => event.key === "Escape" && event.currentTarget.blur()}
          className="mono flex-1 min-w-0 bg-transparent border-b border-hair focus:border-ink"
        />
      </label>
      {change.error && <Problems error={change.error} />}
    </form>
  );
}

function Problems({ error }: { error: Error | ApiError }) {
  const first = "problems" in error ? error.problems[0] : undefined;
  if (!first) return <Alert>{error.message}</Alert>;
  const more = [first.found && `found ${first.found}`, first.allowed && `allowed: ${first.allowed}`];
  return <Alert>{[first.message, ...more.filter(Boolean)].join("; ")}</Alert>;
}
