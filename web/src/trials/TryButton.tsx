import type { Change } from "../api/client";
import { Key } from "../ui/Key";
import { useKeys } from "../ui/useKeys";
import { useTry } from "./useTry";

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
  const { tryOut, isBusy, error } = useTry();
  const run = () => !isBusy && tryOut(changes);
  useKeys(keyName ? { [keyName]: run } : {});
  return (
    <>
      <button
        type="button"
        onClick={run}
        disabled={isBusy}
        data-testid="try"
        className="text-good underline underline-offset-2 hover:no-underline disabled:text-faint whitespace-nowrap"
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
