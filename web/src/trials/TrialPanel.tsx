import { type FormEvent, useContext, useEffect, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { asItIs, useDifference, useMoved, useTried, useWalk } from "../api/answers";
import type { Change, FlowChange, Trial, TriedChange, Walk } from "../api/client";
import { useNetwork } from "../api/queries";
import { useChangeTrial, useDeleteTrial, useMakeRevision, useNewTrial, useTrial } from "../api/trials";
import { questionOf, withQuestion } from "../flows/sentence";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { RouteLine } from "../routes/RouteLine";
import { download } from "../ui/download";
import { FirstOf } from "../ui/FirstOf";
import { Key } from "../ui/Key";
import { VERDICT_WORDS } from "../ui/marks";
import { useKeys } from "../ui/useKeys";
import { counted } from "../ui/words";
import { useTry } from "./useTry";
import { WritingLine } from "./writing";

/** The trial at the side: its changes in words with a switch on each, and under them what moved. */
export function TrialPanel({ number }: { number: number }) {
  const { network } = useCurrentNetwork();
  const trial = useTrial(network.id, number);
  if (!trial.data) return null;
  return (
    <aside
      className="w-[21rem] max-lg:w-full shrink-0 border-l max-lg:border-l-0 max-lg:border-t border-hair bg-sheet overflow-auto text-[14px]"
      aria-label="the trial"
      data-testid="trial"
    >
      <Head trial={trial.data} />
      <Changes trial={trial.data} />
      <Moved />
      <HandOver trial={trial.data} />
    </aside>
  );
}

function Head({ trial }: { trial: Trial }) {
  const { revision } = useCurrentNetwork();
  const { look } = useTry();
  const change = useChangeTrial(revision);
  const [name, setName] = useState(trial.name);
  const canUndo = trial.at > 0;
  const canRedo = trial.at < trial.steps - 1;
  const undo = () => canUndo && change.mutate({ at: trial.at - 1 });
  const redo = () => canRedo && change.mutate({ at: trial.at + 1 });
  useKeys({ "[": undo, "]": redo, "ctrl+z": undo, "ctrl+y": redo });
  function save(event: FormEvent) {
    event.preventDefault();
    change.mutate({ name });
  }
  return (
    <header className="px-3 pt-2 pb-1.5 border-b border-hair">
      <form onSubmit={save} className="flex items-baseline gap-2">
        <span className="text-good font-semibold">with</span>
        <input
          aria-label="the trial's name"
          value={name}
          maxLength={200}
          placeholder={`trial ${trial.number}`}
          onChange={(event) => setName(event.target.value)}
          onBlur={() => name !== trial.name && change.mutate({ name })}
          className="flex-1 min-w-0 bg-transparent border-b border-hair focus:border-ink"
        />
        <button type="button" className="text-faint hover:text-ink" onClick={() => look(null)}>
          leave
        </button>
      </form>
      <p className="flex gap-3 text-faint text-sm mt-1">
        <button
          type="button"
          disabled={!canUndo}
          onClick={undo}
          className="enabled:hover:text-ink disabled:opacity-60"
        >
          undo <Key>[</Key>
        </button>
        <button
          type="button"
          disabled={!canRedo}
          onClick={redo}
          className="enabled:hover:text-ink disabled:opacity-60"
        >
          redo <Key>]</Key>
        </button>
        <span className="ml-auto">
          step {trial.at + 1} of {trial.steps}
        </span>
      </p>
      {change.error && <Alert>{change.error.message}</Alert>}
    </header>
  );
}

function Alert({ children }: { children: string }) {
  return (
    <p role="alert" className="text-stop">
      {children}
    </p>
  );
}

function Changes({ trial }: { trial: Trial }) {
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
  useKeys({ "+": () => field.current?.focus() });
  function submit(event: FormEvent) {
    event.preventDefault();
    if (line.trim()) change.mutate({ line }, { onSuccess: () => setLine("") });
  }
  return (
    <form onSubmit={submit} className="mt-1">
      <label className="flex items-baseline gap-2">
        <span className="text-faint whitespace-nowrap">
          add <Key>+</Key>
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

function Problems({
  error,
}: {
  error: Error & { problems?: { message: string; found: string; allowed: string }[] };
}) {
  const first = error.problems?.[0];
  if (!first) return <Alert>{error.message}</Alert>;
  return (
    <Alert>
      {`${first.message}${first.found && `; found ${first.found}`}${first.allowed && `; allowed: ${first.allowed}`}`}
    </Alert>
  );
}

const outcome = (walk: Walk) =>
  `${VERDICT_WORDS[walk.forward.verdict]}${walk.return ? `, answer ${VERDICT_WORDS[walk.return.verdict]}` : ""}`;

function Moved() {
  const { revision } = useCurrentNetwork();
  const [search] = useSearchParams();
  const question = questionOf(search);
  const before = useWalk(asItIs(revision), question);
  const after = useWalk(revision, question);
  const moved = useMoved(revision);
  const [was, is] = [before.data && outcome(before.data), after.data && outcome(after.data)];
  const others = moved.data?.flows.filter((flow) => flow.changed) ?? [];
  return (
    <section className="px-3 py-2 border-b border-hair" aria-label="what moved" data-testid="moved">
      {question.from && question.to && was && is && (
        <p data-testid="asked-flow">
          <span className="text-faint">this flow:</span>{" "}
          {was === is ? (
            `${is}, as before`
          ) : (
            <>
              {was} → <span className="font-semibold">{is}</span>
            </>
          )}
        </p>
      )}
      {moved.isPending && <p className="text-faint italic">working out what moves …</p>}
      {moved.error && <Alert>{moved.error.message}</Alert>}
      {moved.data && (
        <>
          <h3 className="font-semibold mt-1">
            {others.length} of {counted(moved.data.flows.length, "flow")} asked before
            {others.length === 1 ? " moves" : " move"}
          </h3>
          <ul>
            {others.map((flow) => (
              <MovedFlow key={`${flow.flow.from} ${flow.flow.to} ${flow.flow.service}`} flow={flow} />
            ))}
          </ul>
          <h3 className="font-semibold mt-2">
            {moved.data.routes_changed === 0
              ? "No route moves"
              : `${counted(moved.data.routes_changed, "route")} ${moved.data.routes_changed === 1 ? "moves" : "move"}`}
          </h3>
          <FirstOf
            first={12}
            all={moved.data.routes}
            line={(change) => (
              <RouteLine key={`${change.device} ${change.vrf} ${change.prefix}`} change={change} />
            )}
          />
          {moved.data.routes_changed > moved.data.routes.length && (
            <p className="text-faint">
              The first {moved.data.routes.length.toLocaleString("en")} are listed.
            </p>
          )}
        </>
      )}
    </section>
  );
}

function MovedFlow({ flow }: { flow: FlowChange }) {
  const [search] = useSearchParams();
  const { from, to, service, enter } = flow.flow;
  const there = withQuestion(new URLSearchParams(stateOf(search)), { from, to, service, enter: enter ?? "" });
  const { network } = useCurrentNetwork();
  return (
    <li className="border-t border-hair/70 py-0.5">
      <Link
        className="mono text-forward underline underline-offset-2"
        to={`/networks/${network.id}/flow?${there}`}
      >
        {from} &gt; {to} {service}
      </Link>
      <span className="block text-[13px] text-faint">
        {flow.before === flow.after ? `${flow.after}, by another way` : `${flow.before} → ${flow.after}`}
      </span>
    </li>
  );
}

/** What becomes of a trial: a difference for others to apply, the way back, a copy, a new revision. */
function HandOver({ trial }: { trial: Trial }) {
  const { network, revision } = useCurrentNetwork();
  const [wanted, setWanted] = useState(false);
  const [, setSearch] = useSearchParams();
  const difference = useDifference(revision, wanted);
  const make = useMakeRevision(revision);
  const copy = useNewTrial(revision);
  const remove = useDeleteTrial(network.id);
  const tried = useTried(revision);
  const { look } = useTry();
  const mayEdit = useNetwork(network.id).data?.role !== "reader";
  const name = `trial-${trial.number}`;
  const hasErrors = tried.data?.changes.some((one) => one.state === "error") ?? false;
  const words =
    tried.data?.changes.filter((one) => one.state === "applied").map((one) => `- ${one.words}`) ?? [];
  const button = "underline underline-offset-2 hover:no-underline disabled:text-faint disabled:no-underline";
  return (
    <section className="px-3 py-2" aria-label="hand over">
      <p className="flex flex-wrap gap-x-3">
        <button type="button" className={button} onClick={() => setWanted(!wanted)} aria-expanded={wanted}>
          difference of the files
        </button>
        <button
          type="button"
          className={button}
          disabled={words.length === 0}
          onClick={() => download(`${name}.txt`, `${words.join("\n")}\n`, "text/plain")}
        >
          save as words
        </button>
        <button
          type="button"
          className={button}
          onClick={() =>
            copy.mutate(
              { name: trial.name && `${trial.name}, copy`, note: trial.note, changes: trial.changes },
              { onSuccess: (made) => look(made.number) },
            )
          }
        >
          copy
        </button>
        <button
          type="button"
          className={button}
          onClick={() => remove.mutate(trial.number, { onSuccess: () => look(null) })}
        >
          delete
        </button>
        {mayEdit && (
          <button
            type="button"
            className={`${button} font-semibold text-good`}
            disabled={hasErrors || words.length === 0 || make.isPending}
            title={hasErrors ? "some changes cannot be made here" : ""}
            data-testid="make-revision"
            onClick={() =>
              make.mutate(undefined, { onSuccess: () => setSearch((search) => onTheNew(search)) })
            }
          >
            make it a revision
          </button>
        )}
      </p>
      {make.error && <Alert>{make.error.message}</Alert>}
      {remove.error && <Alert>{remove.error.message}</Alert>}
      {wanted && difference.data && (
        <>
          <p className="mt-1 flex gap-3 text-faint">
            <button
              type="button"
              className={button}
              onClick={() => download(`${name}.diff`, difference.data.difference, "text/plain")}
            >
              save it
            </button>
            <button
              type="button"
              className={button}
              onClick={() => download(`${name}-back-out.diff`, difference.data.back_out, "text/plain")}
            >
              save the way back
            </button>
          </p>
          <pre
            className="mono text-[12px] overflow-auto max-h-72 mt-1 border border-hair p-1"
            data-testid="difference"
          >
            {difference.data.difference || "The files stay as they are."}
          </pre>
        </>
      )}
    </section>
  );
}

/** The address with the newest revision in it, and no trial. */
function onTheNew(search: URLSearchParams): URLSearchParams {
  const next = new URLSearchParams(search);
  next.delete("with");
  next.delete("revision");
  return next;
}
