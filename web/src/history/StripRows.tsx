import { useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import { useStrip } from "../api/history";
import { useRevisions } from "../api/queries";
import { parseTyped, typedForm, withQuestion } from "../flows/sentence";
import { useCurrentNetwork } from "../frame/context";
import { Bands, LABELS, rowHeight } from "./Bands";
import { joined, partsOf, type Span } from "./strip";

/** Another flow over the same window, to see where they part. */
export function OtherRow({
  text,
  span,
  at,
  width,
  remove,
}: {
  text: string;
  span: Span;
  at: (time: number) => number;
  width: number;
  remove: () => void;
}) {
  const { network } = useCurrentNetwork();
  const revisions = useRevisions(network.id).data ?? [];
  const [search, setSearch] = useSearchParams();
  const parsed = parseTyped(text);
  const question = typeof parsed === "string" ? { from: "", to: "", service: "", enter: "" } : parsed;
  const parts = partsOf(span, revisions);
  const { parts: found, error, isPending } = useStrip(network.id, question, parts);
  const strip = useMemo(() => joined(found), [found]);
  return (
    <div className="mt-1" data-testid="strip-row">
      <p className="text-sm flex gap-3">
        <button
          type="button"
          className="mono hover:underline min-h-6"
          title="ask this flow"
          onClick={() => setSearch(withQuestion(search, question))}
        >
          {text}
        </button>
        {isPending && <span className="text-faint">looking back …</span>}
        {error && <span className="text-stop">{error.message}</span>}
        <button type="button" className="text-faint hover:text-ink min-h-6" onClick={remove}>
          take out
        </button>
      </p>
      <svg width={width + LABELS} height={rowHeight} aria-hidden="true" className="block">
        <Bands strip={strip} at={at} width={width} left={LABELS} />
      </svg>
    </div>
  );
}

/** A line to add another flow. */
export function AddRow({ add }: { add: (text: string) => void }) {
  const [line, setLine] = useState("");
  const [problem, setProblem] = useState("");
  return (
    <form
      className="ml-auto"
      onSubmit={(event) => {
        event.preventDefault();
        const parsed = parseTyped(line);
        if (typeof parsed === "string") return setProblem(parsed);
        add(typedForm(parsed));
        setLine("");
        setProblem("");
      }}
    >
      {problem && (
        <span role="alert" className="text-stop mr-2">
          {problem}
        </span>
      )}
      <input
        aria-label="another flow in the strip"
        placeholder="beside: from > to service"
        value={line}
        onChange={(event) => setLine(event.target.value)}
        spellCheck={false}
        className="mono bg-transparent border-b border-faint w-56 h-6"
      />
    </form>
  );
}
