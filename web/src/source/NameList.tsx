import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef, useState } from "react";
import { counted } from "../ui/words";

export type Named = { name: string; detail?: string };
const ROW = 26;

/** A long list of names to choose from, with a box that filters it. */
export function NameList<One extends Named>({
  all,
  noun,
  current,
  choose,
}: {
  all: One[];
  noun: string;
  current?: string | undefined;
  choose: (one: One) => void;
}) {
  const [typed, setTyped] = useState("");
  const scroller = useRef<HTMLDivElement>(null);
  const shown = all.filter((one) => one.name.includes(typed));
  const rows = useVirtualizer({
    count: shown.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 20,
  });
  return (
    <div className="flex-1 min-h-0 flex flex-col border-t border-hair first:border-t-0" data-testid={noun}>
      <input
        aria-label={`filter the ${noun}s`}
        placeholder={`filter ${counted(all.length, noun)}`}
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
        className="bg-transparent border-b border-hair px-3 py-2"
      />
      <div ref={scroller} className="flex-1 overflow-auto">
        <ul className="relative" style={{ height: rows.getTotalSize() }}>
          {rows.getVirtualItems().map((item) => {
            const one = shown[item.index];
            if (!one) return null;
            const isCurrent = one.name === current;
            return (
              <li
                key={item.key}
                className="absolute inset-x-0"
                style={{ transform: `translateY(${item.start}px)`, height: item.size }}
              >
                <button
                  type="button"
                  aria-current={isCurrent}
                  className={`mono w-full text-left px-3 truncate leading-[26px] ${isCurrent ? "bg-wash" : "hover:bg-wash"}`}
                  onClick={() => choose(one)}
                >
                  {one.name}
                  {one.detail && <span className="text-faint text-sm"> {one.detail}</span>}
                </button>
              </li>
            );
          })}
        </ul>
      </div>
    </div>
  );
}
