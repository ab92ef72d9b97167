import { useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { isDump, ofNumber, useComparison, useSource, useSources } from "../api/answers";
import type { FlowChange, ModelChange } from "../api/client";
import { useRevisions } from "../api/queries";
import { besideText } from "../flows/besides";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { RouteLine } from "../routes/RouteLine";
import { laidOut } from "../source/laidOut";
import TextDifference from "../source/TextDifference";
import { FirstOf } from "../ui/FirstOf";
import { Empty, Failed, Waiting } from "../ui/states";
import { counted } from "../ui/words";
import { changedFiles, type FileChange } from "./changedFiles";

const MARKS = { came: "+", gone: "−", changed: "~" } as const;
const TONES = { came: "text-good", gone: "text-stop", changed: "text-return" } as const;

/** What changed from an earlier revision to this one: flows, model, routes, and the text. */
export default function ChangesPage() {
  const { network, revision } = useCurrentNetwork();
  const [search, setSearch] = useSearchParams();
  const revisions = useRevisions(network.id);
  const numbers = (revisions.data ?? []).map((one) => one.number);
  const earlier = numbers.filter((number) => number !== revision.number);
  const wanted = Number(search.get("since"));
  const since = numbers.includes(wanted)
    ? wanted
    : (earlier.find((number) => number < revision.number) ?? earlier[0] ?? 0);
  if (revisions.isPending) return <Waiting what="the revisions" />;
  if (revisions.isError) return <Failed error={revisions.error} what="The revisions cannot be listed." />;
  if (!since)
    return (
      <Empty title="There is one revision only.">
        Once there is another, what changed stands here: starred flows, model, routes and text.
      </Empty>
    );
  const choose = (key: "since" | "revision", number: string) => {
    const next = new URLSearchParams(search);
    next.set(key, number);
    setSearch(next);
  };
  return (
    <div className="h-full flex flex-col">
      <p className="px-4 py-2 text-[19px] border-b border-hair flex gap-2 items-baseline">
        <span className="text-faint">what changed from revision</span>
        <Chooser
          label="the earlier revision"
          numbers={numbers}
          value={since}
          choose={(number) => choose("since", number)}
        />
        <span className="text-faint">to</span>
        <Chooser
          label="the later revision"
          numbers={numbers}
          value={revision.number}
          choose={(number) => choose("revision", number)}
        />
      </p>
      <div className="flex-1 min-h-0 grid max-lg:grid-cols-[minmax(0,1fr)] lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)] max-lg:auto-rows-[75vh] max-lg:overflow-auto">
        <div className="overflow-auto border-r border-hair px-4 py-3" data-testid="changes">
          <Computed since={since} />
        </div>
        <Texts since={since} />
      </div>
    </div>
  );
}

function Chooser({
  label,
  numbers,
  value,
  choose,
}: {
  label: string;
  numbers: number[];
  value: number;
  choose: (number: string) => void;
}) {
  return (
    <select
      aria-label={label}
      value={value}
      onChange={(event) => choose(event.target.value)}
      className="bg-paper border-b border-ink mono"
    >
      {numbers.map((number) => (
        <option key={number}>{number}</option>
      ))}
    </select>
  );
}

function Computed({ since }: { since: number }) {
  const { revision } = useCurrentNetwork();
  const found = useComparison(revision, since);
  if (since === revision.number && !revision.trial) return <p>It is the same revision.</p>;
  if (found.isPending) return <Waiting what="what changed: both revisions are solved" />;
  if (found.isError) return <Failed error={found.error} what="The revisions cannot be compared." />;
  const { model, routes, routes_changed, flows } = found.data;
  const moved = flows.filter((flow) => flow.changed);
  if (model.length === 0 && routes_changed === 0 && moved.length === 0)
    return <p>Nothing that is computed differs{flows.length > 0 ? ", nor does any starred flow" : ""}.</p>;
  return (
    <>
      <section aria-labelledby="flows-title">
        <h2 id="flows-title" className="font-semibold">
          {flows.length === 0
            ? "No starred flow"
            : `${moved.length} of ${counted(flows.length, "starred flow")} changed`}
        </h2>
        {flows.length === 0 && (
          <p className="text-faint text-sm">Star a flow to have it asked of every revision.</p>
        )}
        <ul>
          {[...moved, ...flows.filter((flow) => !flow.changed)].map((flow) => (
            <FlowLine
              key={`${flow.flow.from} ${flow.flow.to} ${flow.flow.service}`}
              flow={flow}
              since={since}
            />
          ))}
        </ul>
      </section>
      <section aria-labelledby="model-title" className="mt-4">
        <h2 id="model-title" className="font-semibold">
          {counted(model.length, "change")} of the model
        </h2>
        <FirstOf
          all={model}
          line={(change) => <ModelLine key={`${change.kind} ${change.name}`} change={change} />}
        />
      </section>
      <section aria-labelledby="routes-title" className="mt-4">
        <h2 id="routes-title" className="font-semibold">
          {counted(routes_changed, "route")} changed
        </h2>
        <FirstOf
          all={routes}
          line={(change) => (
            <RouteLine key={`${change.device} ${change.vrf} ${change.prefix}`} change={change} />
          )}
        />
        {routes_changed > routes.length && (
          <p className="text-faint text-sm">
            The first {routes.length.toLocaleString("en")} are listed; the command line’s diff lists more.
          </p>
        )}
      </section>
    </>
  );
}

function FlowLine({ flow, since }: { flow: FlowChange; since: number }) {
  const { network } = useCurrentNetwork();
  const { from, to, service, enter } = flow.flow;
  const question = { from, to, service, enter: enter ?? "" };
  const [search] = useSearchParams();
  const query = new URLSearchParams(stateOf(search));
  query.append("ask", besideText({ question, revision: since }));
  query.append("ask", besideText({ question, revision: null }));
  return (
    <li className="border-t border-hair/70 py-1" data-changed={flow.changed}>
      <span className="flex gap-3 items-baseline">
        <span className="mono">{besideText({ question, revision: null })}</span>
        <Link
          className="ml-auto text-sm text-forward underline underline-offset-2 shrink-0"
          to={`/networks/${network.id}/flow/beside?${query}`}
        >
          side by side
        </Link>
      </span>
      <span className={`block text-[14px] ${flow.changed ? "" : "text-faint"}`}>
        {flow.before === flow.after
          ? `${flow.after}${flow.changed ? ", by another way" : ", as before"}`
          : `${flow.before} → ${flow.after}`}
      </span>
    </li>
  );
}

function ModelLine({ change }: { change: ModelChange }) {
  return (
    <li className="border-t border-hair/70 py-0.5 flex gap-2">
      <span className={`mono ${TONES[change.what]}`} role="img" aria-label={change.what}>
        {MARKS[change.what]}
      </span>
      <span className="min-w-0 break-words">
        <span className="text-faint">{change.kind}</span> <span className="mono">{change.name}</span>
        {change.detail && <span className="text-faint">: {change.detail}</span>}
      </span>
    </li>
  );
}

/** The files that differ, and what differs in one of them. */
function Texts({ since }: { since: number }) {
  const { revision } = useCurrentNetwork();
  const before = useSources(ofNumber(revision, since));
  const after = useSources(revision);
  const [chosen, setChosen] = useState<string | null>(null);
  if (before.isPending || after.isPending) return <Waiting what="the files" />;
  if (before.isError || after.isError)
    return <Failed error={before.error ?? after.error} what="The files cannot be listed." />;
  const files = changedFiles(before.data, after.data);
  const file = files.find((one) => one.file === chosen) ?? files[0];
  if (!file) return <p className="p-4 text-faint">The text is the same.</p>;
  return (
    <section className="min-w-0 min-h-0 flex flex-col" aria-label="the text">
      <ul className="flex flex-wrap gap-x-4 px-4 py-2 border-b border-hair max-h-28 overflow-auto">
        {files.map((one) => (
          <li key={one.file}>
            <button
              type="button"
              aria-current={one.file === file.file}
              className={`mono text-[14px] ${one.file === file.file ? "font-semibold" : "text-faint hover:text-ink"}`}
              onClick={() => setChosen(one.file)}
            >
              <span className={TONES[one.what]} role="img" aria-label={one.what}>
                {MARKS[one.what]}
              </span>{" "}
              {one.file}
            </button>
          </li>
        ))}
      </ul>
      <div className="flex-1 min-h-0">
        <FileDifference key={file.file} file={file} since={since} />
      </div>
    </section>
  );
}

function FileDifference({ file, since }: { file: FileChange; since: number }) {
  const { revision } = useCurrentNetwork();
  const before = useSource(ofNumber(revision, since), file.what === "came" ? "" : file.file);
  const after = useSource(revision, file.what === "gone" ? "" : file.file);
  const texts = useMemo(
    () => [before.data, after.data].map((one) => laidOut(one?.text ?? "").text),
    [before.data, after.data],
  );
  const failed = before.error ?? after.error;
  if (isDump(file.file))
    return (
      <p className="text-faint">A dump of a BGP table: what it changes stands among the routes that moved.</p>
    );
  if (failed) return <Failed error={failed} what="The text cannot be shown." />;
  if ((file.what !== "came" && !before.data) || (file.what !== "gone" && !after.data))
    return <Waiting what="the text" />;
  return <TextDifference before={texts[0] ?? ""} after={texts[1] ?? ""} />;
}
