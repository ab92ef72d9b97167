import { useRef } from "react";
import { useMaintenance, useMap } from "../api/answers";
import type { MapData, Schemas, Word } from "../api/client";
import { OneOfBox } from "../flows/WordBox";
import { WordList } from "../flows/WordList";
import { useCurrentNetwork } from "../frame/context";
import { TryButton } from "../trials/TryButton";
import { Alert } from "../ui/Alert";
import { FirstOf } from "../ui/FirstOf";
import { Key } from "../ui/Key";
import { useKeys } from "../ui/useKeys";
import { useQuestion } from "../ui/useQuestion";
import { counted } from "../ui/words";

type Plan = Schemas["Maintenance"];

/** What can be shut, as it is written in the question. */
export function thingsOf(map: MapData): Word[] {
  const named = new Map(
    map.cables
      .filter(({ link }) => link !== null)
      .map((cable) => {
        const ends = cable.ends.map(({ device, interface: port }) => `${device}:${port}`);
        // What has no name of its own, or one that cannot stand in a list, goes by one of its ends.
        const name = cable.name.includes(",") ? "" : cable.name;
        return [name || (ends[0] ?? ""), ends.join(" – ")];
      }),
  );
  return [
    ...map.devices
      .filter(({ kind }) => kind !== "host")
      .map(({ name, kind, site }) => ({ word: `device ${name}`, kind, detail: site ? `at ${site}` : "" })),
    ...[...named].map(([name, ends]) => ({ word: `link ${name}`, kind: "link", detail: ends })),
    ...map.sites.map(({ name, label }) => ({ word: `site ${name}`, kind: "site", detail: label })),
  ];
}

/** Things shut for maintenance: in which order, and what of what is expected that breaks. */
export default function MaintenancePage() {
  const { revision } = useCurrentNetwork();
  const [search, ask] = useQuestion();
  const box = useRef<HTMLInputElement>(null);
  const map = useMap(revision);
  const shut = (search.get("shut") ?? "")
    .split(",")
    .map((one) => one.trim())
    .filter(Boolean);
  const found = useMaintenance(revision, shut.join(", "));
  const change = (next: string[]) => ask({ shut: next.join(", ") });
  useKeys({ e: () => box.current?.focus() });
  const things = map.data ? thingsOf(map.data).filter(({ word }) => !shut.includes(word)) : [];
  return (
    <div className="h-full overflow-auto px-6 pt-4 pb-8" data-testid="maintenance">
      <div className="flex flex-wrap items-baseline gap-x-3 text-xl pb-1">
        <span>Shut</span>
        <WordList
          words={shut}
          change={change}
          more={
            <OneOfBox
              all={things}
              label={shut.length > 0 ? "and" : "what"}
              value=""
              placeholder={shut.length > 0 ? "and …" : "a device, link or site …"}
              choose={(word) => change([...shut, word])}
              inputRef={box}
            />
          }
        />
        <Key>e</Key>
        <span>for maintenance.</span>
      </div>
      {shut.length === 0 && (
        <p className="text-faint max-w-prose">
          Each is drained first: its costs are raised and its priorities in virtual routers (VRRP) lowered, so
          that traffic which only passes it goes elsewhere. Then it is shut. An order is looked for in which
          nothing that is expected breaks at any step.
        </p>
      )}
      {found.error && <Alert>{found.error.message}</Alert>}
      {found.isFetching && (
        <p className="text-faint italic">
          looking at one state after the other{found.soFar.done > 0 && `: ${found.soFar.done}`} …{" "}
          <button type="button" className="underline not-italic" onClick={() => void found.stop()}>
            stop
          </button>
        </p>
      )}
      {found.data && <Steps plan={found.data} />}
    </div>
  );
}

function Steps({ plan }: { plan: Plan }) {
  return (
    <>
      <p className={`text-lg ${plan.is_sound ? "text-good" : "text-stop"}`} data-testid="maintenance-words">
        {plan.words}
      </p>
      <ol className="mt-2">
        {plan.steps.map((step, at) => (
          <li
            key={step.words}
            className="border-t border-hair py-1.5 flex gap-3"
            data-testid="maintenance-step"
          >
            <span className="text-faint w-5 text-right">{at + 1}</span>
            <div className="min-w-0">
              <p>
                <span className={step.kind === "shut" ? "font-semibold" : ""}>{step.words}</span>{" "}
                <TryButton changes={step.changes} label="try it so far" />{" "}
                <span className="text-faint text-[14px]">
                  {step.moved > 0 &&
                    `${step.moved} of ${counted(plan.flow_count, "flow")} ${step.moved === 1 ? "goes" : "go"} another way`}
                </span>
              </p>
              <FirstOf
                first={5}
                all={step.breaks}
                line={(one) => (
                  <li key={`${one.expectation} ${one.flow}`} className="text-[14px]">
                    <span className="text-stop">breaks</span> <span className="mono">{one.flow}</span>{" "}
                    <span className="text-faint">({one.expectation})</span> {one.reason}
                  </li>
                )}
              />
              {step.passing.length > 0 && (
                <p className="text-[14px]">
                  <span className="text-return">still over it, cut for a moment when it is shut:</span>{" "}
                  {step.passing.slice(0, 6).join(", ")}
                  {step.passing.length > 6 && ` and ${step.passing.length - 6} more`}
                </p>
              )}
            </div>
          </li>
        ))}
      </ol>
      {plan.fewer_ways.length > 0 && (
        <section className="mt-4" aria-label="redundancy">
          <h2 className="text-lg">Left a single way meanwhile</h2>
          <FirstOf
            first={12}
            all={plan.fewer_ways}
            line={(one) => (
              <li key={`${one.expectation} ${one.flow}`} className="border-t border-hair/70 py-0.5">
                <span className="mono">{one.flow}</span>{" "}
                <span className="text-faint">
                  {one.then} of {one.before} ways that share no {one.apart} · {one.expectation}
                </span>
              </li>
            )}
          />
        </section>
      )}
      {plan.own_ends.length > 0 && (
        <p className="mt-4 text-faint">
          {counted(plan.own_ends.length, "expected flow")} end{plan.own_ends.length === 1 ? "s" : ""} in what
          is shut: {plan.own_ends.slice(0, 5).join(", ")}
          {plan.own_ends.length > 5 && ` and ${plan.own_ends.length - 5} more`}
        </p>
      )}
    </>
  );
}
