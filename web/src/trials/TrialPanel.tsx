import { type FormEvent, useRef, useState } from "react";
import type { Trial } from "../api/client";
import { useChangeTrial, useTrial } from "../api/trials";
import { useCurrentNetwork } from "../frame/context";
import { Alert } from "../ui/Alert";
import { Key } from "../ui/Key";
import { useKeys } from "../ui/useKeys";
import { HandOver } from "./HandOver";
import { TrialChanges } from "./TrialChanges";
import { TrialMoved } from "./TrialMoved";
import { useTry } from "./useTry";

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
      <Head key={number} trial={trial.data} />
      <TrialChanges trial={trial.data} />
      <TrialMoved />
      <HandOver trial={trial.data} />
    </aside>
  );
}

function Head({ trial }: { trial: Trial }) {
  const { revision } = useCurrentNetwork();
  const { look } = useTry();
  const change = useChangeTrial(revision);
  const [name, setName] = useState(trial.name);
  const [note, setNote] = useState(trial.note);
  const canUndo = trial.at > 0;
  const canRedo = trial.at < trial.steps - 1;
  const undo = () => canUndo && change.mutate({ at: trial.at - 1 });
  const redo = () => canRedo && change.mutate({ at: trial.at + 1 });
  const field = useRef<HTMLInputElement>(null);
  useKeys({ "[": undo, "]": redo, N: () => field.current?.focus(), l: () => look(null) });
  function save(event: FormEvent) {
    event.preventDefault();
    field.current?.blur();
  }
  return (
    <header className="px-3 pt-2 pb-1.5 border-b border-hair">
      <form onSubmit={save} className="flex items-baseline gap-2">
        <span className="text-good font-semibold">with</span>
        <input
          ref={field}
          aria-label="the trial's name"
          value={name}
          maxLength={200}
          placeholder={`trial ${trial.number}`}
          onChange={(event) => setName(event.target.value)}
          onBlur={() => name !== trial.name && change.mutate({ name })}
          className="flex-1 min-w-0 bg-transparent border-b border-hair focus:border-ink"
        />
        <button type="button" className="text-faint hover:text-ink" onClick={() => look(null)}>
          leave <Key>l</Key>
        </button>
      </form>
      <textarea
        aria-label="the trial's note"
        value={note}
        rows={note ? Math.min(4, note.split("\n").length + Math.floor(note.length / 45)) : 1}
        maxLength={4000}
        placeholder="a note"
        onChange={(event) => setNote(event.target.value)}
        onBlur={() => note !== trial.note && change.mutate({ note })}
        className="block w-full mt-1 text-[13px] bg-transparent border-b border-hair focus:border-ink resize-none"
      />
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
        <span>
          name <Key>N</Key>
        </span>
        <span className="ml-auto">
          step {trial.at + 1} of {trial.steps}
        </span>
      </p>
      {change.error && <Alert>{change.error.message}</Alert>}
    </header>
  );
}
