import { Link, useSearchParams } from "react-router";
import { useStatements } from "../api/answers";
import type { Statement } from "../api/client";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { TryButton } from "../trials/TryButton";
import type { Span } from "./laidOut";

/** What the statements of a line do, with the way to where that is seen. */
export function Statements({ file, span }: { file: string; span: Span }) {
  const { revision } = useCurrentNetwork();
  const [search] = useSearchParams();
  const found = useStatements(revision, file, span);
  return (
    <section
      className="border-t border-hair px-4 py-2 max-h-[28%] min-h-20 overflow-auto"
      aria-label="what the line does"
      aria-live="polite"
      data-testid="statements"
    >
      {found.isError && <p className="text-stop">{found.error.message}</p>}
      {found.data?.length === 0 && (
        <p className="text-faint">
          Nothing of the model is stated here.
          {search.has("with") && !file.startsWith("trial/") && (
            <> A device that the trial changes has a text of its own among the files, trial/NAME.</>
          )}
        </p>
      )}
      <ul>
        {found.data?.map((one) => (
          <li key={`${one.line} ${one.column} ${one.kind} ${one.name}`} className="py-0.5">
            {one.line < span.line && (
              <span className="text-faint">nothing begins here; line {one.line}: </span>
            )}
            <span className="text-faint">{one.kind}</span> <Effect statement={one} />
            <span className="text-faint">: </span>
            {one.does}
            {one.offers.map((offer) => (
              <span key={offer.label} className="ml-2">
                <TryButton changes={[offer.change]} label={`try ${offer.label}`} />
              </span>
            ))}
            {one.problems.map((problem) => (
              <span key={problem} className="block pl-4 text-stop text-[14px]">
                {problem}
              </span>
            ))}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The statement's name, leading to its route, table, policy or flow where it has one. */
function Effect({ statement }: { statement: Statement }) {
  const { network } = useCurrentNetwork();
  const [search] = useSearchParams();
  const to = pathOf(statement, stateOf(search));
  if (!to) return <span className="mono">{statement.name}</span>;
  return (
    <Link className="mono text-forward underline underline-offset-2" to={`/networks/${network.id}/${to}`}>
      {statement.name}
    </Link>
  );
}

/** Where more of a statement stands; null where nothing does. */
export function pathOf(statement: Statement, state: Record<string, string>): string | null {
  const query = new URLSearchParams(state);
  const path = (to: string) => `${to}?${query}`;
  if (statement.kind === "endpoint") {
    query.set("to", statement.name);
    return path("flow");
  }
  if (!statement.device || ["acl", "entry", "steering"].includes(statement.kind)) return null;
  query.set("device", statement.device);
  if (statement.policy) {
    query.set("policy", statement.policy);
    return path("routes/policies");
  }
  if (statement.vrf) query.set("vrf", statement.vrf);
  if (statement.prefix) query.set("prefix", statement.prefix);
  return path("routes/table");
}
