import { unifiedMergeView } from "@codemirror/merge";
import { EditorState } from "@codemirror/state";
import { EditorView } from "@codemirror/view";
import { useEffect, useRef } from "react";
import { readOnly } from "./looks";

/** What differs between two texts: lines gone and lines come, what is the same folded away. */
export default function TextDifference({ before, after }: { before: string; after: string }) {
  const host = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (!host.current) return;
    const view = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: after,
        extensions: [
          ...readOnly(after, "what differs in the text"),
          EditorView.lineWrapping,
          unifiedMergeView({
            original: before,
            mergeControls: false,
            collapseUnchanged: { margin: 3, minSize: 6 },
            diffConfig: { scanLimit: 1000, timeout: 2000 },
          }),
        ],
      }),
    });
    return () => view.destroy();
  }, [before, after]);
  return <div ref={host} className="h-full overflow-hidden" data-testid="text-difference" />;
}
