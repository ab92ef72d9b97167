import { useSearchParams } from "react-router";
import type { Walk } from "../api/client";
import { SourceLink } from "../source/SourceLink";
import { VERDICT_WORDS, VerdictMark, verdictTone } from "../ui/marks";

/** What becomes of each part of a range of ports that are not all treated alike; each can be asked by itself. */
export function PortParts({ walk }: { walk: Walk }) {
  const [search, setSearch] = useSearchParams();
  if (walk.parts.length === 0) return null;
  const protocol = walk.service.split("/")[0];

  function ask(ports: string) {
    const next = new URLSearchParams(search);
    next.set("on", `${protocol}/${ports}`);
    setSearch(next);
  }
  return (
    <ul className="px-4 py-1.5 border-b border-hair text-[14px]" data-testid="port-parts">
      {walk.parts.map((part) => {
        const decider = part.decided_by.at(-1);
        return (
          <li key={part.ports.join()} className="flex flex-wrap gap-x-3 items-baseline">
            <span className={`font-semibold [&>svg]:mr-1 [&>svg]:-mt-0.5 ${verdictTone(part.verdict)}`}>
              <VerdictMark verdict={part.verdict} size={13} />
              {VERDICT_WORDS[part.verdict]}
            </span>
            <span className="text-faint">
              {part.ports.slice(0, 6).map((ports) => (
                <button
                  key={ports}
                  type="button"
                  onClick={() => ask(ports)}
                  className="mono mr-2 underline decoration-hair hover:text-ink"
                >
                  {ports}
                </button>
              ))}
              {part.ports.length > 6 && `and ${part.ports.length - 6} more ranges`}
            </span>
            {part.return_verdict && part.return_verdict !== "arrives" && (
              <span className="text-faint">answer {VERDICT_WORDS[part.return_verdict]}</span>
            )}
            {decider && (
              <span className="text-faint">
                {decider.device}, {decider.is_rule ? "chain" : "ACL"} {decider.acl}: {deciderWords(decider)}{" "}
                {decider.place && <SourceLink place={decider.place} />}
              </span>
            )}
          </li>
        );
      })}
      {walk.unexamined_ports && (
        <li className="text-stop">
          ports {walk.unexamined_ports} were not looked into: too many parts came before
        </li>
      )}
      <li className="text-faint">Below, the first part with a fault. A port range asks for itself.</li>
    </ul>
  );
}

function deciderWords(decider: { entry: number | null; is_rule: boolean }): string {
  if (decider.entry === null) return decider.is_rule ? "its policy" : "the closing drop";
  return `${decider.is_rule ? "rule" : "entry"} ${decider.entry}`;
}
