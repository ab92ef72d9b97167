import type { ReactNode } from "react";
import { Link } from "react-router";
import { useFindings, useUnderstanding } from "../api/answers";
import type { components } from "../api/schema.gen";
import { useCurrentNetwork } from "../frame/context";
import { SourceLink } from "../source/SourceLink";
import { Failed, Waiting } from "../ui/states";
import { ageText, useTimes } from "../ui/times";
import { counted } from "../ui/words";
import { CablesInDoubt } from "./CablesInDoubt";

const SPOKEN: Record<string, string> = { bgp: "session", static: "route" };
const NAMES: Record<string, string> = { isis: "IS-IS", static: "static" };

const KNOWN_BY: Record<string, string> = {
  text: "known by the network file",
  capture: "known by captures",
  models: "known by documents in open models",
  table: "known by a routing table alone",
};

/** What was understood of the input: the page a network begins with. */
export function UnderstandingPage() {
  const { network, revision, takenAt } = useCurrentNetwork();
  const found = useUnderstanding(revision);
  const findings = useFindings(revision);
  const shownTime = useTimes();
  if (found.isPending) return <Waiting what="what was understood" />;
  if (found.isError) return <Failed error={found.error} what="What was understood cannot be shown." />;
  const model = found.data;
  const base = `/networks/${network.id}`;
  // What one device alone leads to stands among the open ends.
  const several = model.add_first.filter((missing) => missing.devices.length > 1);
  const ends = model.open_ends.filter((end) => end.offers.length === 0);
  const doubtful = model.open_ends.filter((end) => end.offers.length > 0);
  const devices = model.devices.reduce((sum, kind) => sum + kind.count, 0);
  const problems = (["error", "warning", "note"] as const)
    .map((severity) => ({
      severity,
      count: findings.data?.filter((finding) => finding.severity === severity).length ?? 0,
    }))
    .filter(({ count }) => count > 0);
  return (
    <div
      className="h-full overflow-auto grid max-lg:grid-cols-[minmax(0,1fr)] lg:grid-cols-[minmax(0,2fr)_minmax(0,3fr)] gap-12 px-6 py-5"
      data-testid="understanding"
      // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reached by key
      tabIndex={0}
    >
      <section aria-labelledby="understood-title">
        <h2 id="understood-title" className="text-lg">
          {counted(devices, "device")}
          {model.sites > 0 && ` at ${counted(model.sites, "site")}`}, {counted(model.links, "link")}
        </h2>
        <p className="text-faint">
          {takenAt
            ? `as they were at ${shownTime(takenAt)}, ${ageText(takenAt, new Date())}`
            : "the input does not say when this was true"}
        </p>
        <Lines title="Devices">
          {model.devices.map(({ kind, count }) => (
            <Line key={kind} count={count} what={kind} />
          ))}
          {model.known_by.some(({ kind }) => kind !== "text") &&
            model.known_by.map(({ kind, count }) => (
              <Line key={kind} count={count} what={KNOWN_BY[kind] ?? kind} />
            ))}
        </Lines>
        <Lines title="Routing">
          {model.protocols.map(({ protocol, instances, spoken }) => (
            <li key={protocol} className="grid grid-cols-[4rem_1fr] gap-3">
              <span className="text-right">{NAMES[protocol] ?? protocol.toUpperCase()}</span>
              <span>
                {counted(spoken, SPOKEN[protocol] ?? "interface")} of {counted(instances, "routing instance")}
              </span>
            </li>
          ))}
          <Line
            count={model.vrfs}
            what={`${model.vrfs === 1 ? "VRF" : "VRFs"} besides the default instances`}
          />
          <Line count={model.policies} what="routing policy" to={`${base}/routes/policies`} />
        </Lines>
        <Lines title="What else stands there">
          <Line count={model.interfaces} what="interface" />
          <Line count={model.addresses} what="address" />
          <Line count={model.prefixes} what="prefix" to={`${base}/routes`} />
          <Line count={model.acls} what="ACL" />
          <Line
            count={model.filter_programs}
            what={`${model.filter_programs === 1 ? "device" : "devices"} with filter rules of their own`}
          />
          <Line
            count={model.observed}
            what={`${model.observed === 1 ? "table" : "tables"} read off devices`}
          />
          <Line count={model.endpoints} what="endpoint" />
          <Line count={model.services} what="service" />
          <Line count={model.links_down} what={`${model.links_down === 1 ? "link" : "links"} down`} />
        </Lines>
      </section>
      <div className="flex flex-col gap-6">
        <section aria-labelledby="problems-title">
          <h3 id="problems-title" className="font-semibold">
            Problems
          </h3>
          {findings.isPending && <Waiting what="the problems" />}
          {findings.data && problems.length === 0 && <p className="text-faint">None were found.</p>}
          {problems.length > 0 && (
            <p>
              <Link className="underline underline-offset-2" to={`${base}/model/problems`}>
                {problems.map(({ severity, count }) => counted(count, severity)).join(", ")}
              </Link>
            </p>
          )}
        </section>
        <section aria-labelledby="gaps-title">
          <h3 id="gaps-title" className="font-semibold">
            Not represented
          </h3>
          {model.not_represented.length === 0 && (
            <p className="text-faint">Everything that the input states is in the model.</p>
          )}
          <ul>
            {model.not_represented.map((gap) => (
              <li key={gap.message} className="border-t border-hair py-1" title={gap.devices.join(", ")}>
                {gap.message}
                <span className="text-faint">
                  {gap.count > 1 ? ` · ${gap.count} times` : ""} · {gap.devices.slice(0, 4).join(", ")}
                  {gap.devices.length > 4 ? ", …" : ""}
                </span>
              </li>
            ))}
          </ul>
          <More of={model.not_represented_count} shown={model.not_represented.length} />
        </section>
        <section aria-labelledby="ends-title">
          <h3 id="ends-title" className="font-semibold">
            Where what is known ends
          </h3>
          {ends.length === 0 && (
            <p className="text-faint">
              {doubtful.length > 0
                ? "But for the cables below, every neighbour and next hop is known."
                : model.heard.length > 0
                  ? "All but the neighbours below are devices of this network."
                  : "Every neighbour and next hop is a device of this network."}
            </p>
          )}
          <ul>
            {ends.map((end) => (
              <li
                key={`${end.device} ${end.what}`}
                className="border-t border-hair py-1 flex gap-3 items-baseline"
              >
                <span className="min-w-0">
                  <span className="mono">{end.device}</span> {end.what}
                </span>
                <span className="ml-auto whitespace-nowrap">
                  {end.place && <SourceLink place={end.place} />}
                </span>
              </li>
            ))}
          </ul>
          <More of={model.open_ends_count} shown={model.open_ends.length} />
        </section>
        {doubtful.length > 0 && <CablesInDoubt ends={doubtful} />}
        {model.heard.length > 0 && (
          <section aria-labelledby="heard-title">
            <h3 id="heard-title" className="font-semibold">
              Neighbours outside, whose paths are known
            </h3>
            <ul>
              {model.heard.map((one) => (
                <li
                  key={`${one.device} ${one.address}`}
                  className="border-t border-hair py-1 flex gap-3 items-baseline"
                >
                  <span className="min-w-0">
                    <span className="mono">{one.device}</span> hears {counted(one.paths, "path")} of{" "}
                    <span className="mono">{one.address}</span>
                    <span className="text-faint">
                      {" "}
                      · AS {one.number} · {one.file}
                    </span>
                  </span>
                  <span className="ml-auto whitespace-nowrap">
                    {one.place && <SourceLink place={one.place} />}
                  </span>
                </li>
              ))}
            </ul>
            <More of={model.heard_count} shown={model.heard.length} />
          </section>
        )}
        {several.length > 0 && (
          <section aria-labelledby="add-title">
            <h3 id="add-title" className="font-semibold">
              What to add first
            </h3>
            <ul>
              {several.map((missing) => (
                <li
                  key={missing.address}
                  className="border-t border-hair py-1"
                  title={missing.devices.join(", ")}
                >
                  whoever has <span className="mono">{missing.address}</span>
                  <span className="text-faint"> · {leadingThere(missing)}</span>
                </li>
              ))}
            </ul>
          </section>
        )}
        {model.by_documents_count + model.whole_count > 0 && (
          <Documents
            devices={model.by_documents}
            count={model.by_documents_count}
            whole={model.whole_count}
          />
        )}
      </div>
    </div>
  );
}

type Understood = components["schemas"]["Understanding"];

/** What leads to an address that no device has, in words. */
function leadingThere({ sessions, routes, devices }: Understood["add_first"][number]): string {
  const parts = [sessions > 0 && counted(sessions, "session"), routes > 0 && counted(routes, "route")];
  const of = devices.length > 2 ? `${devices.slice(0, 2).join(", ")}, …` : devices.join(" and ");
  return `${parts.filter(Boolean).join(" and ")} of ${of}`;
}

/** How much of devices' documents is in the model: each of which some is not, and how many others there are. */
function Documents(props: { devices: Understood["by_documents"]; count: number; whole: number }) {
  const { devices, count, whole } = props;
  return (
    <section aria-labelledby="documents-title">
      <h3 id="documents-title" className="font-semibold">
        How much of their documents is in the model
      </h3>
      <ul>
        {devices.map((one) => (
          <li
            key={one.device}
            className="border-t border-hair py-1 grid grid-cols-[minmax(6rem,10rem)_1fr_auto] gap-3 items-baseline"
          >
            <span className="mono truncate">{one.device}</span>
            <span>
              {one.used.toLocaleString("en")} of {counted(one.statements, "statement")}
              {one.not_represented > 0 && (
                <span className="text-stop">
                  , {one.not_represented.toLocaleString("en")} not represented
                </span>
              )}
            </span>
            <span className="whitespace-nowrap">{one.place && <SourceLink place={one.place} />}</span>
          </li>
        ))}
      </ul>
      <More of={count} shown={devices.length} />
      {whole > 0 && (
        <p className="text-faint">
          {counted(whole, "device")}: all is in the model, or decides nothing of where packets go.
        </p>
      )}
    </section>
  );
}

/** How many more there are than a list shows. */
function More({ of, shown }: { of: number; shown: number }) {
  return of > shown ? <p className="text-faint">and {(of - shown).toLocaleString("en")} more</p> : null;
}

function Lines({ title, children }: { title: string; children: ReactNode }) {
  return (
    <>
      <h3 className="font-semibold mt-4">{title}</h3>
      <ul>{children}</ul>
    </>
  );
}

/** A number and what it counts; nothing where there is none. */
function Line({ count, what, to }: { count: number; what: string; to?: string }) {
  if (count === 0) return null;
  const text = what.includes(" ") && !to ? what : counted(count, what).replace(/^\S+ /, "");
  return (
    <li className="grid grid-cols-[4rem_1fr] gap-3">
      <span className="text-right tabular-nums">{count.toLocaleString("en")}</span>
      {to ? (
        <Link className="underline underline-offset-2 justify-self-start" to={to}>
          {text}
        </Link>
      ) : (
        <span>{text}</span>
      )}
    </li>
  );
}
