import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { EditorState, RangeSetBuilder, StateEffect, StateField } from "@codemirror/state";
import { Decoration, type DecorationSet, EditorView, keymap } from "@codemirror/view";
import { useEffect, useRef } from "react";
import { looked } from "../source/looks";

export type Wrong = { line: number; message: string };

const marked = StateEffect.define<Wrong[]>();

/** The lines that are wrong, underlined with what is wrong of them. */
const wrongLines = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(lines, transaction) {
    for (const effect of transaction.effects)
      if (effect.is(marked)) return decorations(transaction.state, effect.value);
    return lines.map(transaction.changes);
  },
  provide: (field) => EditorView.decorations.from(field),
});

function decorations(state: EditorState, wrong: Wrong[]): DecorationSet {
  const builder = new RangeSetBuilder<Decoration>();
  for (const { line, message } of [...wrong].sort((a, b) => a.line - b.line)) {
    if (line < 1 || line > state.doc.lines) continue;
    const at = state.doc.line(line);
    const from = at.from + at.text.length - at.text.trimStart().length;
    if (from < at.to)
      builder.add(from, at.to, Decoration.mark({ class: "cm-wrong", attributes: { title: message } }));
  }
  return builder.finish();
}

/** A text that is edited; told each time it changes, and shown what is wrong in it. */
export function TextEditor({
  text,
  label,
  wrong,
  changed,
  keep,
}: {
  text: string;
  label: string;
  wrong: Wrong[];
  changed: (text: string) => void;
  /** By Ctrl and Enter. */
  keep: () => void;
}) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const told = useRef({ changed, keep });
  told.current = { changed, keep };
  useEffect(() => {
    if (!host.current) return;
    view.current = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: text,
        extensions: [
          keymap.of([
            {
              key: "Mod-Enter",
              run: () => {
                told.current.keep();
                return true;
              },
            },
            ...defaultKeymap,
            ...historyKeymap,
            indentWithTab,
          ]),
          history(),
          ...looked(text, label),
          wrongLines,
          EditorView.updateListener.of((update) => {
            if (update.docChanged) told.current.changed(update.state.doc.toString());
          }),
        ],
      }),
    });
    view.current.focus();
    return () => view.current?.destroy();
  }, [text, label]);
  useEffect(() => {
    view.current?.dispatch({ effects: marked.of(wrong) });
  }, [wrong]);
  return <div ref={host} className="h-full overflow-hidden" data-testid="text-editor" />;
}
