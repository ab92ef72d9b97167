import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from "@headlessui/react";
import { type Ref, useState } from "react";
import { useServices, useWords } from "../api/answers";
import type { Word } from "../api/client";
import { useCurrentNetwork } from "../frame/context";

type Props = {
  label: string;
  value: string;
  placeholder?: string;
  choose: (word: string) => void;
  inputRef?: Ref<HTMLInputElement>;
};

/** So many of what is known are offered at once. */
const MOST_OFFERED = 60;

/** Leave the word, so that single keys act again; after the box has done what it does with the key. */
function leave() {
  setTimeout(() => (document.activeElement as HTMLElement | null)?.blur());
}

/** A word of the sentence, edited in place with completion; what is typed can be taken as it is. */
function Box({
  label,
  value,
  placeholder = "…",
  choose,
  inputRef,
  options,
  typed,
  setTyped,
}: Props & { options: Word[]; typed: string | null; setTyped: (typed: string | null) => void }) {
  const own = typed?.trim();
  const shown =
    own && !options.some((option) => option.word === own)
      ? [...options, { word: own, kind: "as typed", detail: "" }]
      : options;
  return (
    <Combobox
      immediate
      value={value}
      onChange={(word: string | null) => {
        setTyped(null);
        if (word !== null && word !== value) choose(word);
        if (word !== null) leave();
      }}
      onClose={() => setTyped(null)}
    >
      <ComboboxInput
        ref={inputRef}
        aria-label={label}
        placeholder={placeholder}
        autoComplete="off"
        spellCheck={false}
        displayValue={(word: string) => word}
        onChange={(event) => setTyped(event.target.value)}
        onFocus={(event) => event.target.select()}
        onKeyDown={(event) => event.key === "Escape" && leave()}
        className="mono bg-transparent border-b border-faint placeholder:text-faint field-sizing-content min-w-[3ch] max-w-[26ch] outline-offset-2"
      />
      <ComboboxOptions
        anchor="bottom start"
        className="z-40 bg-sheet border border-faint shadow-md min-w-64 max-h-80 overflow-auto py-1 [--anchor-gap:4px] empty:hidden"
      >
        {shown.map((option) => (
          <ComboboxOption
            key={option.word}
            value={option.word}
            className="px-3 py-1 flex gap-3 items-baseline cursor-pointer data-focus:bg-wash"
          >
            <span className="mono">{option.word}</span>
            <span className="text-faint text-sm truncate">
              {option.kind} {option.detail}
            </span>
          </ComboboxOption>
        ))}
      </ComboboxOptions>
    </Combobox>
  );
}

/** A place: a device, an interface, an address or an endpoint. */
export function WordBox({ devicesOnly = false, ...props }: Props & { devicesOnly?: boolean }) {
  const { revision } = useCurrentNetwork();
  const [typed, setTyped] = useState<string | null>(null);
  const found = useWords(revision, typed ?? "", true);
  // While the completion of what was typed is on its way, of the former one only what still fits is shown.
  const wanted = found.isPlaceholderData ? (typed ?? "").trim().toLowerCase() : "";
  const options = (found.data ?? []).filter(
    (word) =>
      (!devicesOnly || (word.kind !== "endpoint" && word.kind !== "interface")) &&
      `${word.word} ${word.detail}`.toLowerCase().includes(wanted),
  );
  return <Box {...props} options={options} typed={typed} setTyped={setTyped} />;
}

/** A service: one of the network's by name, or a protocol with its port. */
export function ServiceBox(props: Props) {
  const { revision } = useCurrentNetwork();
  const [typed, setTyped] = useState<string | null>(null);
  const services = useServices(revision);
  const wanted = (typed ?? "").toLowerCase();
  const options = (services.data ?? []).filter((word) =>
    `${word.word} ${word.detail}`.toLowerCase().includes(wanted),
  );
  return <Box {...props} options={options} typed={typed} setTyped={setTyped} />;
}

/** One of some things that are known, by any part of what is said of them. */
export function OneOfBox({ all, ...props }: Props & { all: Word[] }) {
  const [typed, setTyped] = useState<string | null>(null);
  const wanted = (typed ?? "").trim().toLowerCase();
  const options = all.filter((one) => `${one.word} ${one.detail}`.toLowerCase().includes(wanted));
  return <Box {...props} options={options.slice(0, MOST_OFFERED)} typed={typed} setTyped={setTyped} />;
}
