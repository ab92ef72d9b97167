import { type FormEvent, useMemo, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { ofNumber, useMap, useWalks } from "../api/answers";
import type { Strand, Walk } from "../api/client";
import { useAsked, useRevisions } from "../api/queries";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { answerMap } from "../map/answerMap";
import { WayMap } from "../map/WayMap";
import { cablesByLink, walkTraces } from "../map/ways";
import { Key } from "../ui/Key";
import { type Direction, tone, VERDICT_WORDS, VerdictMark, verdictTone } from "../ui/marks";
import { Empty } from "../ui/states";
import { useKeys } from "../ui/useKeys";
import { questionOfAsked } from "./asked";
import { type Beside, besidesOf, besideText, MOST_BESIDE, parseBeside, withBesides } from "./besides";
import { deviceOrder } from "./ladder";
import { type Parting, partingOf } from "./parting";
import { typedForm, withQuestion } from "./sentence";

/** Several flows, or one of several revisions, side by side, with the first stop at which they part. */
export function BesidePage() {
  const { revision } = useCurrentNetwork();
  const [search, setSearch] = useSearchParams();
  const besides = besidesOf(search);
  const walks = useWalks(
    besides.map((one) => ({
      key: one.revision ? ofNumber(revision, one.revision) : revision,
      question: one.question,
    })),
  );
  const show = (next: Beside[]) => setSearch(withBesides(search, next));
  const add = (one: Beside) => show([...besides, one]);
  const answers = walks.map((walk) => walk.data);
  const known = answers.filter((walk) => walk !== undefined);
  const all = besides.length > 1 && known.length === besides.length;
  const forward = all ? partingOf(known.map((walk) => walk.forward)) : null;
  const returns = known.map((walk) => walk.return).filter((strand) => strand !== null);
  const back = all && returns.length === known.length ? partingOf(returns) : null;

  return (
    <div className="h-full flex flex-col">
      <AddLine besides={besides} add={add} />
      {besides.length === 0 ? (
        <Empty title="Nothing stands side by side yet.">
          Choose flows that were asked before, or type one: from &gt; to service. With @ and a number behind
          it, it is asked of that revision.
        </Empty>
      ) : (
        <>
          <div className="px-4 py-2 border-b border-hair" data-testid="parting" aria-live="polite">
            {forward && <PartingLine direction="forward" parting={forward} />}
            {back && <PartingLine direction="return" parting={back} />}
            {besides.length > 1 && !all && (
              <p className="text-faint">Where they part is said once all of them are answered.</p>
            )}
            {besides.length === 1 && <p className="text-faint">Add another to see where they part.</p>}
          </div>
          <div className="flex-1 min-h-0 overflow-auto">
            <div
              className="grid min-h-full"
              style={{ gridTemplateColumns: `repeat(${besides.length}, minmax(16rem, 1fr))` }}
            >
              {besides.map((one, at) => (
                <Column
                  // biome-ignore lint/suspicious/noArrayIndexKey: the same flow may stand here twice
                  key={`${besideText(one)} ${at}`}
                  number={at + 1}
                  beside={one}
                  walk={answers[at]}
                  error={walks[at]?.error ?? null}
                  partsAt={{
                    forward: forward?.kind === "part" ? forward.device : null,
                    return: back?.kind === "part" ? back.device : null,
                  }}
                  again={(number) => add({ ...one, revision: number })}
                  remove={() => show(besides.filter((_, other) => other !== at))}
                />
              ))}
            </div>
          </div>
        </>
      )}
    </div>
  );
}

/** A line to type a flow to add, and those asked before. */
function AddLine({ besides, add }: { besides: Beside[]; add: (one: Beside) => void }) {
  const { network } = useCurrentNetwork();
  const asked = useAsked(network.id);
  const box = useRef<HTMLInputElement>(null);
  const [line, setLine] = useState("");
  const [problem, setProblem] = useState("");
  const full = besides.length >= MOST_BESIDE;
  useKeys({ "/": () => box.current?.focus() });
  const shown = new Set(besides.map(besideText));
  const before = (asked.data ?? [])
    .map((one) => ({ question: questionOfAsked(one), revision: null }))
    .filter((one) => !shown.has(besideText(one)))
    .slice(0, 6);

  function submit(event: FormEvent) {
    event.preventDefault();
    const parsed = parseBeside(line);
    if (typeof parsed === "string") return setProblem(parsed);
    setProblem("");
    setLine("");
    add(parsed);
  }

  return (
    <form
      onSubmit={submit}
      className="px-4 py-2 border-b border-hair flex flex-wrap gap-x-4 gap-y-1 items-baseline"
    >
      <label className="flex gap-2 items-baseline">
        <span className="text-faint">
          add <Key>/</Key>
        </span>
        <input
          ref={box}
          aria-label="a flow to add"
          value={line}
          disabled={full}
          placeholder={full ? `${MOST_BESIDE} are the most` : "from > to service @revision"}
          onChange={(event) => setLine(event.target.value)}
          onKeyDown={(event) => event.key === "Escape" && box.current?.blur()}
          spellCheck={false}
          className="mono w-72 bg-transparent border-b border-faint"
        />
      </label>
      {problem && (
        <span role="alert" className="text-sm text-stop">
          {problem}
        </span>
      )}
      {!full &&
        before.map((one) => (
          <button
            key={besideText(one)}
            type="button"
            className="mono text-sm text-forward underline underline-offset-2"
            onClick={() => add(one)}
          >
            {typedForm(one.question)}
          </button>
        ))}
    </form>
  );
}

function PartingLine({ direction, parting }: { direction: Direction; parting: Parting }) {
  return (
    <p>
      <span className={`font-semibold ${tone(direction)}`}>{direction}</span>{" "}
      {parting.kind === "apart" && "they have no stop in common"}
      {parting.kind === "same" && (
        <>
          they go the same way from <span className="mono">{parting.from}</span> on
        </>
      )}
      {parting.kind === "part" && (
        <>
          they part at <span className="mono font-semibold">{parting.device}</span>:{" "}
          {parting.ways.map((way, at) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a way may be the same for two
            <span key={at}>
              {at > 0 && ", "}
              <span className="text-faint">({at + 1})</span> {way}
            </span>
          ))}
        </>
      )}
    </p>
  );
}

function Column({
  number,
  beside,
  walk,
  error,
  partsAt,
  again,
  remove,
}: {
  number: number;
  beside: Beside;
  walk: Walk | undefined;
  error: Error | null;
  partsAt: Record<Direction, string | null>;
  again: (revision: number) => void;
  remove: () => void;
}) {
  const { network, revision } = useCurrentNetwork();
  const revisions = useRevisions(network.id);
  const own = beside.revision ?? revision.number;
  const others = (revisions.data ?? []).filter((one) => one.number !== own);
  const [search] = useSearchParams();
  const there = new URLSearchParams(beside.revision ? { revision: String(own) } : stateOf(search));
  return (
    <section
      className="border-r border-hair px-3 py-2 min-w-0"
      aria-label={`flow ${number}: ${besideText(beside)}`}
    >
      <h2 className="flex gap-2 items-baseline">
        <span className="text-faint">({number})</span>
        <Link
          className="mono text-forward underline underline-offset-2 truncate"
          to={`/networks/${network.id}/flow?${withQuestion(there, beside.question)}`}
        >
          {typedForm(beside.question)}
        </Link>
        <button type="button" className="ml-auto text-sm text-faint hover:text-ink" onClick={remove}>
          take away
        </button>
      </h2>
      <p className="text-sm text-faint flex gap-2 items-baseline">
        revision {own}
        {others.length > 0 && (
          <select
            aria-label={`show flow ${number} on another revision too`}
            className="bg-paper border-b border-hair ml-auto"
            value=""
            onChange={(event) => again(Number(event.target.value))}
          >
            <option value="">and of revision …</option>
            {others.map((one) => (
              <option key={one.number} value={one.number}>
                {one.number}
              </option>
            ))}
          </select>
        )}
      </p>
      {error && (
        <p role="alert" className="text-stop mt-2">
          {error.message}
        </p>
      )}
      {!walk && !error && <p className="text-faint mt-2">asking …</p>}
      {walk && <Ways walk={walk} partsAt={partsAt.forward ?? partsAt.return} revision={own} />}
      {walk && <StrandList direction="forward" strand={walk.forward} partsAt={partsAt.forward} />}
      {walk?.return && <StrandList direction="return" strand={walk.return} partsAt={partsAt.return} />}
    </section>
  );
}

/** Both ways on the map, with the stop at which the flows part. */
function Ways({ walk, partsAt, revision }: { walk: Walk; partsAt: string | null; revision: number }) {
  const { revision: current } = useCurrentNetwork();
  const map = useMap(revision === current.number ? current : ofNumber(current, revision));
  const shown = useMemo(() => {
    if (!map.data) return null;
    const traces = walkTraces(walk, cablesByLink(map.data));
    return { traces, own: answerMap(map.data, traces, walk.forward.stops[0]?.device ?? "") };
  }, [map.data, walk]);
  return (
    <div className="h-48 mt-1">
      {map.data && shown && <WayMap map={map.data} {...shown} chosen={partsAt} />}
    </div>
  );
}

/** A strand as a list of its stops, each with what decided there. */
function StrandList({
  direction,
  strand,
  partsAt,
}: {
  direction: Direction;
  strand: Strand;
  partsAt: string | null;
}) {
  return (
    <div className="mt-2" data-testid={`beside-${direction}`}>
      <p>
        <span className={`font-semibold ${tone(direction)}`}>{direction}</span>{" "}
        <span className={`font-semibold [&>svg]:mr-1 [&>svg]:-mt-0.5 ${verdictTone(strand.verdict)}`}>
          <VerdictMark verdict={strand.verdict} size={13} />
          {VERDICT_WORDS[strand.verdict]}
        </span>{" "}
        <span className="text-faint">
          · {strand.path_count} way{strand.path_count === 1 ? "" : "s"}
        </span>
      </p>
      {strand.causes.slice(0, 1).map((cause) => (
        <p key={cause.message} className="text-stop text-[14px]">
          {cause.message}
        </p>
      ))}
      <ol className="mt-1">
        {deviceOrder(strand).map((device) => {
          const stops = strand.stops.filter((stop) => stop.device === device);
          const decided = [...new Set(stops.map((stop) => stop.decided))].join("; ");
          return (
            <li
              key={device}
              className={`border-t border-hair/70 py-0.5 ${device === partsAt ? "bg-mark" : ""}`}
            >
              <span className="mono">{device}</span>
              {device === partsAt && <span className="text-sm font-semibold"> they part here</span>}
              <span className={`block text-[13px] break-words ${device === partsAt ? "" : "text-faint"}`}>
                {decided}
              </span>
            </li>
          );
        })}
      </ol>
    </div>
  );
}
