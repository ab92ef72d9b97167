import { useEndangered } from "../api/answers";
import { useCurrentNetwork } from "../frame/context";
import { Alert } from "../ui/Alert";
import { OUTCOME_WORDS } from "./words";

/** What of all that is expected hangs on a device: what becomes of it without it. */
export function LeansOn({ device }: { device: string }) {
  const { revision } = useCurrentNetwork();
  const found = useEndangered(revision, device, true);
  if (found.error) return <Alert>{found.error.message}</Alert>;
  if (!found.data) return <p className="px-3 pb-1 text-faint italic">letting {device} fail …</p>;
  const { words, expectations } = found.data;
  return (
    <div className="px-3 pb-1 max-h-56 overflow-auto" data-testid="leans-on">
      <p>{words}</p>
      <ul>
        {expectations.map((one) => (
          <li key={one.name} className="border-t border-hair/70 py-0.5">
            <span
              className={one.outcome === "loops" || one.outcome === "breaks" ? "text-stop" : "text-faint"}
            >
              {OUTCOME_WORDS[one.outcome]}
            </span>{" "}
            <span className="font-semibold">{one.name}</span>{" "}
            <span className="text-faint mono text-[12px]">
              {one.flows.join(", ")}
              {one.flow_count > one.flows.length && ` and ${one.flow_count - one.flows.length} more`}
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}
