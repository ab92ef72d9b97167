import { EditorState, RangeSetBuilder } from "@codemirror/state";
import { Decoration, EditorView } from "@codemirror/view";
import { useEffect, useRef } from "react";
import { readOnly } from "./looks";

export type Mark = { line: number; message: string };

/** Text that can be read and searched but not changed; one line chosen, some marked as wrong. */
export default function SourceText({
  text,
  first,
  line,
  column,
  marks = [],
  look,
}: {
  text: string;
  /** The number of the first of the records that the text shows; `line` counts from it as from 1. */
  first?: number;
  line?: number;
  column?: number;
  marks?: Mark[];
  /** Told the line that the cursor is on, as it moves. */
  look?: (line: number) => void;
}) {
  const host = useRef<HTMLDivElement>(null);
  const told = useRef(look);
  told.current = look;
  // The marks are made anew with each render: their content is what decides.
  const marked = JSON.stringify(marks);
  useEffect(() => {
    if (!host.current) return;
    const view = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: text,
        extensions: [
          ...readOnly(text, "source text", first === undefined ? undefined : { first }),
          EditorView.updateListener.of((update) => {
            if (update.selectionSet)
              told.current?.(update.state.doc.lineAt(update.state.selection.main.head).number);
          }),
          EditorView.decorations.of((current) => decorations(current.state, line, JSON.parse(marked))),
        ],
      }),
    });
    if (line && line <= view.state.doc.lines) {
      const at = view.state.doc.line(line);
      const position = Math.min(at.to, at.from + Math.max(0, (column ?? 1) - 1));
      view.dispatch({ effects: EditorView.scrollIntoView(position, { y: "center", x: "start" }) });
    }
    return () => view.destroy();
  }, [text, first, line, column, marked]);
  return <div ref={host} className="h-full overflow-hidden" data-testid="source-text" data-line={line} />;
}

function decorations(state: EditorState, line: number | undefined, marks: Mark[]) {
  const builder = new RangeSetBuilder<Decoration>();
  const wrong = new Map(marks.map((mark) => [mark.line, mark.message]));
  for (const number of [...new Set([...(line ? [line] : []), ...wrong.keys()])].sort((a, b) => a - b)) {
    if (number < 1 || number > state.doc.lines) continue;
    const at = state.doc.line(number);
    if (number === line) builder.add(at.from, at.from, Decoration.line({ class: "cm-chosen" }));
    const message = wrong.get(number);
    const from = at.from + at.text.length - at.text.trimStart().length;
    if (message && from < at.to)
      builder.add(from, at.to, Decoration.mark({ class: "cm-wrong", attributes: { title: message } }));
  }
  return builder.finish();
}
