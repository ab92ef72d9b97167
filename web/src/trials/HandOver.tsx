import { useState } from "react";
import { useSearchParams } from "react-router";
import { useDifference, useTried } from "../api/answers";
import type { Trial } from "../api/client";
import { useNetwork } from "../api/queries";
import { useDeleteTrial, useMakeRevision, useNewTrial } from "../api/trials";
import { useCurrentNetwork } from "../frame/context";
import { Alert } from "../ui/Alert";
import { download } from "../ui/download";
import { Key } from "../ui/Key";
import { useKeys } from "../ui/useKeys";
import { Patches } from "./Patches";
import { useTry } from "./useTry";

/** What becomes of a trial: a difference for others to apply, the way back, a copy, a new revision. */
export function HandOver({ trial }: { trial: Trial }) {
  const { network, revision } = useCurrentNetwork();
  const [wanted, setWanted] = useState(false);
  const [taken, setTaken] = useState(false);
  const [search, setSearch] = useSearchParams();
  const difference = useDifference(revision, wanted);
  const make = useMakeRevision(revision);
  const copy = useNewTrial(revision);
  const remove = useDeleteTrial(network.id);
  const tried = useTried(revision);
  const { look } = useTry();
  const mayEdit = useNetwork(network.id).data?.role !== "reader";
  const name = `trial-${trial.number}`;
  const hasErrors = tried.data?.changes.some((one) => one.state === "error") ?? false;
  const words =
    tried.data?.changes.filter((one) => one.state === "applied").map((one) => `- ${one.words}`) ?? [];
  const isReady = mayEdit && !hasErrors && words.length > 0 && !make.isPending;
  const makeIt = () =>
    isReady &&
    // The page is drawn anew meanwhile: what is to follow must not hang on this being still there.
    make.mutateAsync().then(
      () => setSearch(onTheNew(search)),
      () => undefined,
    );
  useKeys({ D: () => setWanted(!wanted), Y: () => setTaken(!taken), R: makeIt });
  const button = "underline underline-offset-2 hover:no-underline disabled:text-faint disabled:no-underline";
  return (
    <section className="px-3 py-2" aria-label="hand over">
      <p className="flex flex-wrap gap-x-3">
        <button type="button" className={button} onClick={() => setWanted(!wanted)} aria-expanded={wanted}>
          difference of the files <Key>D</Key>
        </button>
        <button
          type="button"
          className={button}
          onClick={() => setTaken(!taken)}
          aria-expanded={taken}
          disabled={words.length === 0}
        >
          for the devices <Key>Y</Key>
        </button>
        <button
          type="button"
          className={button}
          disabled={words.length === 0}
          onClick={() => download(`${name}.txt`, `${words.join("\n")}\n`, "text/plain")}
        >
          save as words
        </button>
        <button
          type="button"
          className={button}
          onClick={() =>
            copy.mutate(
              { name: trial.name && `${trial.name}, copy`, note: trial.note, changes: trial.changes },
              { onSuccess: (made) => look(made.number) },
            )
          }
        >
          copy
        </button>
        <button
          type="button"
          className={button}
          onClick={() => remove.mutate(trial.number, { onSuccess: () => look(null) })}
        >
          delete
        </button>
        {mayEdit && (
          <button
            type="button"
            className={`${button} font-semibold text-good`}
            disabled={!isReady}
            title={hasErrors ? "some changes cannot be made here" : ""}
            data-testid="make-revision"
            onClick={makeIt}
          >
            make it a revision <Key>R</Key>
          </button>
        )}
      </p>
      {make.error && <Alert>{make.error.message}</Alert>}
      {remove.error && <Alert>{remove.error.message}</Alert>}
      {taken && words.length > 0 && <Patches revision={revision} />}
      {wanted && difference.data && (
        <>
          <p className="mt-1 flex gap-3 text-faint">
            <button
              type="button"
              className={button}
              onClick={() => download(`${name}.diff`, difference.data.difference, "text/plain")}
            >
              save it
            </button>
            <button
              type="button"
              className={button}
              onClick={() => download(`${name}-back-out.diff`, difference.data.back_out, "text/plain")}
            >
              save the way back
            </button>
          </p>
          <pre
            className="mono text-[12px] overflow-auto max-h-72 mt-1 border border-hair p-1"
            data-testid="difference"
          >
            {difference.data.difference || "The files stay as they are."}
          </pre>
        </>
      )}
    </section>
  );
}

/** The address with the newest revision in it, and no trial. */
function onTheNew(search: URLSearchParams): URLSearchParams {
  const next = new URLSearchParams(search);
  next.delete("with");
  next.delete("revision");
  return next;
}
