import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/react";
import type { Ref } from "react";
import { useSearchParams } from "react-router";
import { useRevisions } from "../api/queries";
import { useCurrentNetwork } from "../frame/context";
import { changedSince } from "../history/moments";
import { ageText, useTimes } from "../ui/times";

/** The state asked about: the word of the sentence that chooses a revision by the time it was true. */
export function AsOf({ buttonRef }: { buttonRef: Ref<HTMLButtonElement> }) {
  const { network, revision, takenAt } = useCurrentNetwork();
  const revisions = useRevisions(network.id);
  const shownTime = useTimes();
  const [search, setSearch] = useSearchParams();
  const latest = network.latest?.number;

  function choose(number: number) {
    const next = new URLSearchParams(search);
    next.delete("time");
    if (number === latest) next.delete("revision");
    else next.set("revision", String(number));
    setSearch(next);
  }

  const changed = changedSince(network, revision);
  function then(moment: string) {
    const next = new URLSearchParams(search);
    next.set("time", moment);
    setSearch(next);
  }

  return (
    <>
      <Listbox value={revision.number} onChange={choose}>
        <ListboxButton
          ref={buttonRef}
          aria-label="as of"
          className="text-ink border-b border-faint whitespace-nowrap data-open:bg-wash"
          data-testid="as-of"
        >
          {revision.moment
            ? shownTime(revision.moment)
            : takenAt
              ? shownTime(takenAt)
              : `revision ${revision.number}, no time stated`}
          {revision.moment ? (
            <span className="text-faint text-base"> by what happened, on revision {revision.number}</span>
          ) : (
            takenAt && <span className="text-faint text-base"> {ageText(takenAt, new Date())}</span>
          )}
        </ListboxButton>
        <ListboxOptions
          anchor="bottom start"
          className="z-40 bg-sheet border border-faint shadow-md max-h-80 overflow-auto py-1 text-base outline-none [--anchor-gap:4px]"
        >
          {revisions.data?.map((one) => (
            <ListboxOption
              key={one.number}
              value={one.number}
              className="px-3 py-1 flex gap-3 items-baseline cursor-pointer data-focus:bg-wash data-selected:font-semibold"
            >
              <span>revision {one.number}</span>
              <span className="text-faint text-sm">
                {one.taken_at ? shownTime(one.taken_at) : "no time stated"}
                {one.note ? ` · ${one.note}` : ""}
              </span>
            </ListboxOption>
          ))}
        </ListboxOptions>
      </Listbox>
      {changed && (
        <button
          type="button"
          className="ml-2 text-base text-stop underline underline-offset-2"
          title="More has happened since this was captured than the answer knows: ask with it."
          onClick={() => then(changed)}
        >
          events since, to {shownTime(changed)}
        </button>
      )}
    </>
  );
}
