import { yaml } from "@codemirror/lang-yaml";
import { defaultHighlightStyle, HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { EditorState, type Extension } from "@codemirror/state";
import { EditorView, highlightSpecialChars, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";

const LOOKS = EditorView.theme({
  "&": { height: "100%", fontSize: "13px", backgroundColor: "var(--sheet)", color: "var(--ink)" },
  ".cm-scroller": { fontFamily: "var(--font-mono)", lineHeight: "1.55" },
  ".cm-gutters": {
    backgroundColor: "var(--sheet)",
    color: "var(--faint)",
    borderRight: "1px solid var(--hair)",
  },
  ".cm-chosen": { backgroundColor: "var(--mark)" },
  ".cm-chosen span": { color: "var(--ink) !important" },
  ".cm-wrong": { textDecoration: "underline wavy var(--stop)", textUnderlineOffset: "3px" },
  ".cm-deletedChunk": { backgroundColor: "color-mix(in srgb, var(--stop) 9%, transparent)" },
  "&.cm-merge-b .cm-changedLine": { backgroundColor: "color-mix(in srgb, var(--good) 11%, transparent)" },
  ".cm-collapsedLines": { background: "var(--wash)", color: "var(--faint)" },
  // Its ornaments are in none of the fonts.
  ".cm-collapsedLines:before, .cm-collapsedLines:after": { content: '"…"' },
});

const COLOURS = HighlightStyle.define([
  { tag: tags.comment, color: "var(--faint)", fontStyle: "italic" },
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: "var(--forward)" },
  { tag: [tags.string, tags.number, tags.bool], color: "var(--ink)" },
]);

/** A longer text is not coloured. */
const MOST_COLOURED = 2_000_000;

/** Text that can be read and searched but not changed. */
export function readOnly(text: string, label: string, records?: { first: number }): Extension[] {
  return [EditorState.readOnly.of(true), ...looked(text, label, records)];
}

/** How a text looks, whether or not it can be changed; records are numbered from the first and are not coloured. */
export function looked(text: string, label: string, records?: { first: number }): Extension[] {
  return [
    lineNumbers({ formatNumber: (line) => String(line + (records?.first ?? 1) - 1) }),
    highlightSpecialChars(),
    EditorView.contentAttributes.of({ "aria-label": label, tabindex: "0" }),
    LOOKS,
    syntaxHighlighting(COLOURS),
    syntaxHighlighting(defaultHighlightStyle, { fallback: true }),
    ...(text.length < MOST_COLOURED && !records ? [yaml()] : []),
  ];
}
