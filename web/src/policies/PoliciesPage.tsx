import { useRef, useState } from "react";
import { usePolicies, usePolicy } from "../api/answers";
import { useCurrentNetwork } from "../frame/context";
import { Key } from "../ui/Key";
import { Empty, Failed, Waiting } from "../ui/states";
import { useKeys } from "../ui/useKeys";
import { useQuestion } from "../ui/useQuestion";
import { useStepper } from "../ui/useStepper";
import { Report } from "./PolicyReport";
import { listed } from "./words";

/** What a routing policy does to every route that meets it, wherever it is asked. */
export function PoliciesPage() {
  const { revision } = useCurrentNetwork();
  const [search, ask] = useQuestion();
  const policies = usePolicies(revision);
  const [typed, setTyped] = useState("");
  const device = search.get("device") ?? "";
  const name = search.get("policy") ?? "";
  const report = usePolicy(revision, device, name);
  const shown = listed(policies.data ?? [], typed);
  const field = useRef<HTMLInputElement>(null);

  useStepper(
    shown,
    (one) => one.device === device && one.policy === name,
    (next) => ask({ device: next.device, policy: next.policy }, true),
  );
  useKeys({ "/": () => field.current?.focus() });
  if (policies.isPending) return <Waiting what="the policies" />;
  if (policies.isError) return <Failed error={policies.error} what="The policies cannot be shown." />;
  if (policies.data.length === 0)
    return <Empty title="No device of this network has a routing policy.">Routes pass unchanged.</Empty>;
  return (
    <div className="h-full grid max-lg:grid-cols-[minmax(0,1fr)] lg:grid-cols-[19rem_minmax(0,1fr)] max-lg:auto-rows-[75vh] max-lg:overflow-auto">
      <section className="border-r border-hair min-h-0 flex flex-col" aria-label="policies">
        <label className="px-4 pt-3 pb-2 flex items-baseline gap-2">
          <span className="sr-only">find a policy</span>
          <input
            ref={field}
            value={typed}
            onChange={(event) => setTyped(event.target.value)}
            placeholder="device or policy"
            spellCheck={false}
            className="bg-transparent border-b border-faint placeholder:text-faint w-full"
          />
          <Key>/</Key>
        </label>
        <ol className="flex-1 overflow-auto pb-4" data-testid="policies">
          {shown.map((one, index) => (
            <li key={`${one.device} ${one.policy}`}>
              {one.device !== shown[index - 1]?.device && (
                <h3 className="px-4 pt-2 text-faint">{one.device}</h3>
              )}
              <button
                type="button"
                aria-pressed={one.device === device && one.policy === name}
                onClick={() => ask({ device: one.device, policy: one.policy })}
                className={`w-full text-left px-4 pl-7 py-px hover:bg-wash ${one.device === device && one.policy === name ? "bg-mark/50" : ""}`}
              >
                {one.policy}
              </button>
            </li>
          ))}
        </ol>
      </section>
      <section className="min-h-0" aria-label="what the policy does">
        {!name && (
          <Empty title="A policy, and what it does to every route that meets it.">
            Which statement decides each route, what it changes, what never matches, and what only the closing
            reject drops.
          </Empty>
        )}
        {name && report.isPending && <Waiting what="the policy" />}
        {name && report.isError && <Failed error={report.error} what="This policy cannot be shown." />}
        {name && report.data && <Report key={`${device} ${name}`} report={report.data} />}
      </section>
    </div>
  );
}
