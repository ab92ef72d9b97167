import { useEffect, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { useRemedies } from "../api/answers";
import { useCurrentNetwork } from "../frame/context";
import { TryButton } from "../trials/TryButton";
import { Alert } from "../ui/Alert";
import { Key } from "../ui/Key";
import { useKeys } from "../ui/useKeys";
import { questionOf } from "./sentence";

/** Everything that is offered against what stops the flow, each tried: by how little else it moves. */
export function RankedRemedies() {
  const { revision } = useCurrentNetwork();
  const [search] = useSearchParams();
  const [wanted, setWanted] = useState(false);
  const remedies = useRemedies(revision, questionOf(search), wanted);
  const turn = () => setWanted(!wanted);
  const box = useRef<HTMLDivElement>(null);
  const isThere = wanted && !remedies.isPending;
  useEffect(() => {
    if (isThere) box.current?.scrollIntoView({ block: "nearest" });
  }, [isThere]);
  useKeys({ e: turn });
  return (
    <div ref={box} className="mt-0.5" data-testid="remedies">
      <button
        type="button"
        aria-expanded={wanted}
        onClick={turn}
        className="text-faint underline underline-offset-2 hover:text-ink"
      >
        every remedy, by what else it moves
      </button>{" "}
      <Key>e</Key>
      {wanted && remedies.isPending && <p className="text-faint italic">trying each …</p>}
      {wanted && remedies.error && <Alert>{remedies.error.message}</Alert>}
      {wanted && remedies.data && (
        <ol className="list-decimal pl-5">
          {remedies.data.map((one) => (
            <li key={`${one.message}${one.text}`} className="border-t border-hair/70 py-0.5">
              {one.message} <TryButton changes={one.changes} label="try it" />
              <code className="block text-[12px] break-words">{one.text}</code>
              <span className={one.beyond?.effects.some(isWorse) ? "text-stop" : "text-faint"}>
                {one.is_cured ? "cures it" : `then: ${one.outcome}`}; {one.moves}
              </span>
            </li>
          ))}
        </ol>
      )}
    </div>
  );
}

function isWorse({ effect }: { effect: string }) {
  return effect === "blocked" || effect === "loops";
}
