import { useKeys } from "./useKeys";

/** Steps through a list: j and ↓ to the next, u and ↑ to the one before; from none, j takes the first. */
export function useStepper<T>(
  items: T[],
  isChosen: (item: T) => boolean,
  choose: (item: T, at: number) => void,
) {
  function step(by: number) {
    const at = items.findIndex(isChosen) + by;
    const next = items[at];
    if (next !== undefined) choose(next, at);
  }
  const next = () => step(1);
  const previous = () => step(-1);
  useKeys({ j: next, ArrowDown: next, u: previous, ArrowUp: previous });
}
