import { useLayoutEffect, useRef } from "react";

/** Single keys that act while no text is being typed; with Ctrl or ⌘ for `ctrl+k`. */
export function useKeys(actions: Record<string, () => void>) {
  const latest = useRef(actions);
  latest.current = actions;
  // In the commit that shows what they act on: a key pressed as soon as it is seen is not lost.
  useLayoutEffect(() => {
    function pressed(event: KeyboardEvent) {
      const target = event.target as HTMLElement;
      const typing = target.matches("input, textarea, select, [contenteditable=true], .cm-content");
      const modified = event.ctrlKey || event.metaKey;
      if (event.altKey || (typing && !modified)) return;
      if (!modified && document.querySelector("[role=dialog]")) return;
      const action = latest.current[(modified ? "ctrl+" : "") + event.key];
      if (action) {
        event.preventDefault();
        action();
      }
    }
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, []);
}
