import {
  Combobox,
  ComboboxInput,
  ComboboxOption,
  ComboboxOptions,
  Dialog,
  DialogPanel,
} from "@headlessui/react";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { useFind } from "../api/answers";
import { useEventsFound } from "../api/history";
import { momentOf } from "../history/moments";
import { toggleZone } from "../ui/times";
import { stateOf, useCurrentNetwork } from "./context";
import { type Action, leadsOf } from "./leads";
import { ROOMS } from "./rooms";
import { toggleTheme } from "./theme";

/** One place to find anything and do anything: devices, addresses and interfaces, then actions. */
export function Palette({
  open,
  onClose,
  go,
}: {
  open: boolean;
  onClose: () => void;
  go: (to: string) => void;
}) {
  const { network, revision } = useCurrentNetwork();
  const [typed, setTyped] = useState("");
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const found = useFind(revision, typed, open);
  const events = useEventsFound(network.id, typed, open);
  const base = `/networks/${network.id}`;

  function ask(key: "from" | "to", word: string) {
    const next = new URLSearchParams(search);
    next.set(key, word);
    navigate(`${base}/flow?${next}`);
  }

  const pages: Action[] = ROOMS.flatMap((room) =>
    room.views.map(({ to, label }) => ({
      label,
      detail: `open · ${room.label} ${room.key}`,
      run: () => go(to),
    })),
  );
  const actions: Action[] = [
    ...pages,
    { label: "light or dark", detail: "change · d", run: toggleTheme },
    { label: "times in UTC or in this zone", detail: "change · z", run: toggleZone },
    { label: "all networks", detail: "open", run: () => navigate("/") },
  ].filter((action) => action.label.includes(typed.toLowerCase()));
  const show = (view: string, words: Record<string, string>) =>
    navigate(`${base}/${view}?${new URLSearchParams({ ...stateOf(search), ...words })}`);
  const places: Action[] = (typed ? (found.data ?? []) : []).flatMap((one) => leadsOf(one, ask, show));
  const happened: Action[] = events.map((one) => ({
    label: one.words,
    detail: `event · ${one.time.replace("T", " ").slice(0, 19)} UTC${one.note ? ` · ${one.note}` : ""}`,
    run: () => {
      const next = new URLSearchParams(search);
      next.set("time", momentOf(one.time) ?? one.time);
      next.delete("revision");
      navigate(`${base}/flow?${next}`);
    },
  }));
  const options = [...places, ...happened, ...actions];

  function close() {
    setTyped("");
    onClose();
  }

  return (
    <Dialog open={open} onClose={close} className="relative z-50">
      <div className="fixed inset-0 bg-ink/20" aria-hidden="true" />
      <div className="fixed inset-x-0 top-24 mx-auto w-[36rem] max-w-full">
        <DialogPanel className="bg-sheet border border-faint shadow-lg">
          <Combobox
            value={null}
            onChange={(action: Action | null) => {
              close();
              action?.run();
            }}
          >
            <ComboboxInput
              autoFocus
              aria-label="find anything"
              placeholder="a device, address, prefix, session, entry, event, or an action"
              className="w-full bg-transparent px-4 py-3 text-lg outline-none"
              onChange={(event) => setTyped(event.target.value)}
            />
            <ComboboxOptions static className="max-h-96 overflow-auto border-t border-hair py-1">
              {options.map((action) => (
                <ComboboxOption
                  key={`${action.label} ${action.detail}`}
                  value={action}
                  className="px-4 py-1 flex gap-3 items-baseline data-focus:bg-wash cursor-pointer"
                >
                  <span className="mono">{action.label}</span>
                  <span className="text-faint text-sm truncate">{action.detail}</span>
                </ComboboxOption>
              ))}
              {options.length === 0 && <p className="px-4 py-2 text-faint">nothing of this name</p>}
            </ComboboxOptions>
          </Combobox>
        </DialogPanel>
      </div>
    </Dialog>
  );
}
