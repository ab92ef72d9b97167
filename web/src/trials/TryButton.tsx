import { useIsFetching } from "@tanstack/react-query";
import type { Change } from "../api/client";
import { Key } from "../ui/Key";
import { useKeys } from "../ui/useKeys";
import { useTry } from "./useTry";

const OFFERING = ["walk", "tipping", "contest"];

/** Tries changes in place; with a key where it is the one thing to do. */
export function TryButton({
  changes,
  label = "try",
  keyName,
}: {
  changes: Change[];
  label?: string;
  keyName?: string;
}) {
  const { tryOut, isBusy: isTrying, error } = useTry();
  // What is offered belongs to an answer: while that is asked anew, the old offer may no longer be right.
  const asking = useIsFetching({ predicate: ({ queryKey }) => OFFERING.includes(String(queryKey[1])) });
  const isBusy = isTrying || asking > 0;
  const run = () => !isBusy && tryOut(changes);
  useKeys(keyName ? { [keyName]: run } : {});
  return (
    <>
      <button
        type="button"
        onClick={run}
        disabled={isBusy}
        data-testid="try"
        className="text-good underline underline-offset-2 hover:no-underline disabled:text-faint text-left"
      >
        {label}
      </button>
      {keyName && (
        <>
          {" "}
          <Key>{keyName}</Key>
        </>
      )}
      {error && (
        <span role="alert" className="text-stop">
          {" "}
          {error.message}
        </span>
      )}
    </>
  );
}
