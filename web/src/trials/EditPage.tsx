import { useEffect, useMemo, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { useDeviceText, useMap, useSource } from "../api/answers";
import type { Change } from "../api/client";
import { useChangeTrial, useCheckChanges, useTrial } from "../api/trials";
import { useCurrentNetwork } from "../frame/context";
import { NameList } from "../source/NameList";
import { Key } from "../ui/Key";
import { Failed, Waiting } from "../ui/states";
import { useQuestion } from "../ui/useQuestion";
import { TextEditor } from "./TextEditor";
import { useTry } from "./useTry";

/** Typing is checked once it has paused for so long. */
const PAUSE_MS = 250;

/** A device's text, or a whole file's, edited as a change of a trial and checked as it is typed. */
export default function EditPage() {
  const { network, revision } = useCurrentNetwork();
  const [search] = useSearchParams();
  const device = search.get("device") ?? "";
  const file = search.get("file") ?? "";
  const ofDevice = useDeviceText(revision, file ? "" : device);
  const ofFile = useSource(revision, file);
  const trial = useTrial(network.id, revision.trial?.number ?? 0);
  const asked = file ? ofFile : ofDevice;
  if (!device && !file) return <ChooseDevice />;
  if (asked.isPending || (revision.trial && trial.isPending)) return <Waiting what="the text" />;
  if (asked.isError) return <Failed error={asked.error} what="This text cannot be edited." />;
  const note = file ? "" : (ofDevice.data?.note ?? "");
  if (note) return <Failed error={note} what={`${device} cannot be edited by itself.`} />;
  const target = file ? { edit: "file", at: file } : { edit: "device", at: device };
  return (
    <Editing
      key={`${device} ${file} ${revision.trial?.version}`}
      target={target}
      text={asked.data?.text ?? ""}
      before={trial.data?.changes ?? []}
    />
  );
}

/** The devices, to choose one whose text is edited. */
function ChooseDevice() {
  const { revision } = useCurrentNetwork();
  const map = useMap(revision);
  const [, ask] = useQuestion();
  const devices = useMemo(
    () => (map.data?.devices ?? []).map((one) => ({ name: one.name, detail: one.kind })),
    [map.data],
  );
  if (map.isPending) return <Waiting what="the devices" />;
  return (
    <div className="h-full flex flex-col max-w-md">
      <p className="px-4 py-2 text-faint">
        What is edited becomes a change of a trial, checked as it is typed. The text of which device?
      </p>
      <NameList all={devices} noun="device" choose={(one) => ask({ device: one.name })} />
    </div>
  );
}

function Editing({ target, text, before }: { target: Change; text: string; before: Change[] }) {
  const { revision } = useCurrentNetwork();
  const navigate = useNavigate();
  const check = useCheckChanges(revision);
  const change = useChangeTrial(revision);
  const { tryOut, isBusy } = useTry();
  const [typed, setTyped] = useState(text);
  const isChanged = typed !== text;
  // A text edited again takes the place of what was edited before, if nothing else was done since.
  const last = before.at(-1);
  const isSame = last?.edit === target.edit && last?.at === target.at;
  const made = { ...target, text: typed };
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is typed decides when to check
  useEffect(() => {
    if (!isChanged) return;
    const soon = setTimeout(() => check.mutate([...before, made]), PAUSE_MS);
    return () => clearTimeout(soon);
  }, [typed, isChanged]);
  const problems = isChanged ? (check.data?.changes.at(-1)?.problems ?? []) : [];
  const wrong = useMemo(
    () => problems.map(({ place, message }) => ({ line: place?.line ?? 1, message })),
    [problems],
  );
  function keep() {
    if (!isChanged || problems.length > 0 || isBusy) return;
    if (revision.trial && isSame) change.mutate({ changes: [...before.slice(0, -1), made] });
    else tryOut([made]);
  }
  return (
    <div className="h-full flex flex-col">
      <p className="px-4 py-1.5 border-b border-hair flex flex-wrap gap-x-4 items-baseline">
        <span>
          <span className="text-faint">the text of</span> <span className="mono">{String(target.at)}</span>
        </span>
        <button
          type="button"
          onClick={keep}
          disabled={!isChanged || problems.length > 0}
          data-testid="keep-text"
          className="text-good font-semibold underline underline-offset-2 disabled:text-faint disabled:no-underline disabled:font-normal"
        >
          try it
        </button>
        <Key>Ctrl Enter</Key>
        <button type="button" className="text-faint hover:text-ink" onClick={() => navigate(-1)}>
          back
        </button>
        <span className="text-faint" role="status">
          {check.isPending
            ? "checking …"
            : !isChanged
              ? "as it stands"
              : problems.length > 0
                ? ""
                : check.data
                  ? "it can be read"
                  : ""}
        </span>
      </p>
      {(check.error ?? change.error) && (
        <p role="alert" className="px-4 py-1 text-stop">
          {(check.error ?? change.error)?.message}
        </p>
      )}
      {problems.length > 0 && (
        <ul
          className="px-4 py-1 border-b border-hair text-[14px] max-h-28 overflow-auto"
          data-testid="text-problems"
        >
          {problems.map((problem) => (
            <li key={`${problem.place?.line} ${problem.message}`} className="text-stop">
              <span className="mono">line {problem.place?.line}</span>: {problem.message}
              {problem.found && `; found ${problem.found}`}
              {problem.allowed && `; allowed: ${problem.allowed}`}
              {problem.nearest && `; did you mean ${problem.nearest}?`}
            </li>
          ))}
        </ul>
      )}
      <div className="flex-1 min-h-0">
        <TextEditor
          text={text}
          label={`the text of ${String(target.at)}`}
          wrong={wrong}
          changed={setTyped}
          keep={keep}
        />
      </div>
    </div>
  );
}
