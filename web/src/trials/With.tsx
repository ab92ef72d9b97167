import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/react";
import type { Ref } from "react";
import { useNewTrial, useTrials } from "../api/trials";
import { useCurrentNetwork } from "../frame/context";
import { counted } from "../ui/words";
import { useTry } from "./useTry";

const NEW = -1;

/** The word of the sentence that says which trial the question is asked with. */
export function With({ buttonRef }: { buttonRef: Ref<HTMLButtonElement> }) {
  const { network, revision } = useCurrentNetwork();
  const trials = useTrials(network.id);
  const begin = useNewTrial(revision);
  const { look } = useTry();
  const shown = trials.data?.find((one) => one.number === revision.trial?.number);

  function choose(number: number) {
    if (number === NEW) begin.mutate({}, { onSuccess: (trial) => look(trial.number) });
    else look(number || null);
  }

  return (
    <Listbox value={revision.trial?.number ?? 0} onChange={choose}>
      <ListboxButton
        ref={buttonRef}
        aria-label="with"
        data-testid="with"
        className={`border-b border-faint whitespace-nowrap data-open:bg-wash ${revision.trial ? "text-good font-semibold" : "text-faint italic"}`}
      >
        {revision.trial ? trialName(shown?.name ?? "", revision.trial.number) : "no change"}
      </ListboxButton>
      <ListboxOptions
        anchor="bottom start"
        className="z-40 bg-sheet border border-faint shadow-md max-h-80 overflow-auto py-1 text-base outline-none [--anchor-gap:4px]"
      >
        <Option value={0} name="no change" detail="the network as it is" />
        <Option value={NEW} name="a new trial" detail="changes beside the network" />
        {trials.data?.map((one) => (
          <Option
            key={one.number}
            value={one.number}
            name={trialName(one.name, one.number)}
            detail={`${counted(one.changes.length, "change")} · ${one.created_by ?? "somebody"} · on revision ${one.revision}`}
          />
        ))}
      </ListboxOptions>
    </Listbox>
  );
}

function Option({ value, name, detail }: { value: number; name: string; detail: string }) {
  return (
    <ListboxOption
      value={value}
      className="px-3 py-1 flex gap-3 items-baseline cursor-pointer data-focus:bg-wash data-selected:font-semibold"
    >
      <span>{name}</span>
      <span className="text-faint text-sm font-normal">{detail}</span>
    </ListboxOption>
  );
}

export function trialName(name: string, number: number): string {
  return name || `trial ${number}`;
}
