import { type ReactNode, useState } from "react";

/** The first of a long list, and the rest on request. */
export function FirstOf<T>({
  all,
  line,
  first = 60,
}: {
  all: T[];
  line: (one: T) => ReactNode;
  first?: number;
}) {
  const [whole, setWhole] = useState(false);
  return (
    <>
      <ul>{(whole ? all : all.slice(0, first)).map(line)}</ul>
      {!whole && all.length > first && (
        <button type="button" className="text-sm underline" onClick={() => setWhole(true)}>
          {(all.length - first).toLocaleString("en")} more
        </button>
      )}
    </>
  );
}
