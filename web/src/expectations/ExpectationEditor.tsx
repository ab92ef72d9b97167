import { type ReactNode, useState } from "react";
import { ServiceBox, WordBox } from "../flows/WordBox";
import { WordList } from "../flows/WordList";
import { useTry } from "../trials/useTry";
import { Alert } from "../ui/Alert";
import { CLAUSES, type Clause, type Entry, expecting, lacks, written } from "./entry";
import { STRESSES } from "./useStressQuestion";
import { KIND_WORDS } from "./words";

const FIELD = "bg-transparent border-b border-faint outline-offset-2 leading-5";
const EXPECTED = ["works", "arrives", "never arrives"] as const;
const APART = ["links", "devices", "sites", "risk_groups"];
const SEVERITIES = ["error", "warning", "note"];

/** An expectation as a sentence whose words are changed in place; what comes of it is a change of a trial. */
export function ExpectationEditor({
  name: known,
  entry: before,
  close,
}: {
  /** The one that is changed, or nothing where it is a new one. */
  name?: string;
  entry: Entry;
  close: () => void;
}) {
  const [name, setName] = useState(known ?? "");
  const [entry, setEntry] = useState(before);
  const { tryOut, isBusy, error } = useTry();
  const set = (part: Partial<Entry>) => setEntry({ ...entry, ...part });
  const lacking = lacks(name, entry);
  function leaveOut(clause: Clause) {
    const next = { ...entry };
    delete next[clause];
    setEntry(next);
  }
  function done() {
    const verb = known === undefined ? { add: "expectation" } : { change: "expectation" };
    tryOut([{ ...verb, at: name.trim(), entry: written(entry) }], close);
  }
  return (
    <form
      className="border-l-2 border-hair pl-3 my-2 leading-8"
      data-testid="expectation-editor"
      onSubmit={(event) => {
        event.preventDefault();
        if (!lacking) done();
      }}
    >
      {known === undefined && (
        <p>
          Expect, by the name of{" "}
          <TextField label="name" value={name} change={setName} placeholder="what it is called" />
        </p>
      )}
      <p className="flex flex-wrap items-baseline gap-x-2">
        <Places label="from" words={entry.from} change={(from) => set({ from })} />
        <Places label="to" words={entry.to} change={(to) => set({ to })} />
        <span className="text-faint">on</span>
        <WordList
          words={entry.on}
          change={(on) => set({ on })}
          more={
            <ServiceBox
              label="on"
              value=""
              placeholder={entry.on.length > 0 ? "or …" : "icmp"}
              choose={(word) => set({ on: [...entry.on, word] })}
            />
          }
        />
        <Select
          label="expect"
          value={entry.expect}
          all={EXPECTED}
          change={(value) => setEntry(expecting(entry, value as Entry["expect"]))}
        />
        {(["passes", "avoids"] as const).map(
          (clause) =>
            entry[clause] && (
              <Part key={clause} leaveOut={() => leaveOut(clause)}>
                <Places label={clause} words={entry[clause]} change={(words) => set({ [clause]: words })} />
              </Part>
            ),
        )}
        {entry.same_way_back && (
          <Part leaveOut={() => leaveOut("same_way_back")}>comes back the same way</Part>
        )}
        {entry.hops !== undefined && (
          <Part leaveOut={() => leaveOut("hops")}>
            in <NumberField label="hops" value={entry.hops} change={(hops) => set({ hops })} /> hops at most
          </Part>
        )}
        {entry.mtu !== undefined && (
          <Part leaveOut={() => leaveOut("mtu")}>
            packets to <NumberField label="packet size" value={entry.mtu} change={(mtu) => set({ mtu })} />{" "}
            bytes
          </Part>
        )}
        {entry.ways !== undefined && (
          <Part leaveOut={() => leaveOut("ways")}>
            <NumberField label="ways" value={entry.ways} change={(ways) => set({ ways })} /> ways that share
            no{" "}
            <Select
              label="apart"
              value={entry.apart ?? "links"}
              all={APART}
              change={(apart) => set({ apart })}
            />
          </Part>
        )}
        {entry.survives && (
          <Part leaveOut={() => leaveOut("survives")}>
            survives any one{" "}
            {STRESSES.map((kind) => {
              const is = entry.survives?.includes(kind) ?? false;
              const others = entry.survives?.filter((one) => one !== kind) ?? [];
              return (
                <button
                  key={kind}
                  type="button"
                  aria-pressed={is}
                  className={`mr-2 border-b-2 ${is ? "border-ink" : "border-transparent text-faint"}`}
                  onClick={() => set({ survives: is ? others : [...others, kind] })}
                >
                  {KIND_WORDS[kind]}
                </button>
              );
            })}
          </Part>
        )}
      </p>
      {entry.expect !== "never arrives" && <Offered entry={entry} add={set} />}
      <p className="flex flex-wrap items-baseline gap-x-3">
        <Select
          label="severity"
          value={entry.severity}
          all={SEVERITIES}
          change={(severity) => set({ severity })}
        />
        <span>
          <span className="text-faint">owner</span>{" "}
          <TextField label="owner" value={entry.owner} change={(owner) => set({ owner })} />
        </span>
        <span>
          <span className="text-faint">note</span>{" "}
          <TextField label="note" value={entry.note} change={(note) => set({ note })} />
        </span>
        <span>
          <span className="text-faint">tags</span>{" "}
          <TextField
            label="tags"
            value={entry.tags.join(" ")}
            change={(tags) =>
              set({ tags: tags.split(/[\s,]+/).filter((tag, at, all) => tag || at === all.length - 1) })
            }
          />
        </span>
      </p>
      <p className="flex gap-x-4">
        <button
          type="submit"
          disabled={isBusy || lacking !== ""}
          className="text-good underline underline-offset-2 disabled:text-faint"
        >
          try it
        </button>
        <button type="button" className="underline underline-offset-2" onClick={close}>
          leave it
        </button>
        {known !== undefined && (
          <button
            type="button"
            className="text-stop underline underline-offset-2"
            onClick={() => tryOut([{ remove: "expectation", at: known }], close)}
          >
            expect it no longer
          </button>
        )}
        {lacking && <span className="text-faint italic">it lacks {lacking}</span>}
      </p>
      {error && <Alert>{error.message}</Alert>}
    </form>
  );
}

/** What may be asked of a way besides. */
function Offered({ entry, add }: { entry: Entry; add: (part: Partial<Entry>) => void }) {
  const left = (Object.keys(CLAUSES) as Clause[]).filter(
    (clause) => entry[clause] === undefined && !(clause === "same_way_back" && entry.expect === "arrives"),
  );
  return (
    <p className="text-faint text-sm">
      and:{" "}
      {left.map((clause) => (
        <button
          key={clause}
          type="button"
          className="mr-3 underline underline-offset-2 hover:text-ink"
          onClick={() => add({ [clause]: CLAUSES[clause].begins })}
        >
          {CLAUSES[clause].offered}
        </button>
      ))}
    </p>
  );
}

function Part({ leaveOut, children }: { leaveOut: () => void; children: ReactNode }) {
  return (
    <span className="inline-flex flex-wrap items-baseline gap-x-2">
      <span>{children}</span>
      <button
        type="button"
        aria-label="leave this out"
        className="text-faint hover:text-stop"
        onClick={leaveOut}
      >
        ×
      </button>
    </span>
  );
}

function Places({
  label,
  words,
  change,
}: {
  label: string;
  words: string[];
  change: (words: string[]) => void;
}) {
  return (
    <>
      <span className="text-faint">{label}</span>{" "}
      <WordList
        words={words}
        change={change}
        more={
          <WordBox
            label={label}
            value=""
            placeholder={words.length > 0 ? "or …" : "a place …"}
            choose={(word) => change(words.includes(word) ? words : [...words, word])}
          />
        }
      />
    </>
  );
}

function Select({
  label,
  value,
  all,
  change,
}: {
  label: string;
  value: string;
  all: readonly string[];
  change: (value: string) => void;
}) {
  return (
    <select
      aria-label={label}
      value={value}
      onChange={(event) => change(event.target.value)}
      className={`${FIELD} field-sizing-content`}
    >
      {all.map((one) => (
        <option key={one} value={one}>
          {one.replace("_", " ")}
        </option>
      ))}
    </select>
  );
}

function NumberField({
  label,
  value,
  change,
}: {
  label: string;
  value: number;
  change: (value: number) => void;
}) {
  return (
    <input
      aria-label={label}
      type="number"
      value={value}
      min={1}
      onChange={(event) => change(Number(event.target.value))}
      className={`${FIELD} mono w-[7ch]`}
    />
  );
}

function TextField({
  label,
  value,
  change,
  placeholder = "…",
}: {
  label: string;
  value: string;
  change: (value: string) => void;
  placeholder?: string;
}) {
  return (
    <input
      aria-label={label}
      value={value}
      placeholder={placeholder}
      autoComplete="off"
      onChange={(event) => change(event.target.value)}
      className={`${FIELD} placeholder:text-faint field-sizing-content min-w-[6ch] max-w-full`}
    />
  );
}
