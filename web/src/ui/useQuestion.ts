import { useSearchParams } from "react-router";

/** The question of a page as it stands in the address, and a way to change some of its words; '' takes one out. */
export function useQuestion(): [URLSearchParams, (words: Record<string, string>, replace?: boolean) => void] {
  const [search, setSearch] = useSearchParams();
  function ask(words: Record<string, string>, replace = false) {
    const next = new URLSearchParams(search);
    for (const [key, value] of Object.entries(words)) {
      if (value) next.set(key, value);
      else next.delete(key);
    }
    setSearch(next, { replace });
  }
  return [search, ask];
}
