import { useSearchParams } from "react-router";
import { useWantedWay } from "../api/answers";
import { questionOf } from "../flows/sentence";
import { useCurrentNetwork } from "../frame/context";
import { Alert } from "../ui/Alert";
import { TryButton } from "./TryButton";

export type Wanted = { passing?: string; avoiding?: string };

/** What would lead the flow by a device, or past it: what moves least of all other traffic first. */
export function WantedWay({ wanted }: { wanted: Wanted }) {
  const { revision } = useCurrentNetwork();
  const [search] = useSearchParams();
  const found = useWantedWay(revision, questionOf(search), wanted);
  if (found.error) return <Alert>{found.error.message}</Alert>;
  if (!found.data) return <p className="px-3 pb-1 text-faint italic">looking, and trying what is found …</p>;
  const { is_so_already, costs, proposals } = found.data;
  return (
    <div className="px-3 pb-1 max-h-56 overflow-auto" data-testid="wanted-way">
      {is_so_already && <p>It goes that way already.</p>}
      {costs && <p className="text-faint">{costs}</p>}
      <ol className="list-decimal pl-5">
        {proposals.map((one) => (
          <li key={one.words.join()} className="border-t border-hair/70 py-0.5">
            {one.words.join("; ")} <TryButton changes={one.changes} label="try it" />
            <span className="block mono text-[12px]">{one.ways[0]?.join(" > ")}</span>
            <span className="text-faint">{one.moves}</span>
          </li>
        ))}
      </ol>
      {!is_so_already && proposals.length === 0 && <p>No change that is offered leads it that way.</p>}
    </div>
  );
}
