import { useRef, useState } from "react";
import { ApiError } from "../api/client";
import { useAddEvents, useEventFiles, useRemoveEvents } from "../api/history";
import { ProblemList } from "../networks/ProblemList";
import { useTimes } from "../ui/times";
import { counted } from "../ui/words";

const EXAMPLE = `{"time": "2026-11-20T03:12:44Z", "down": "link", "at": "r1:e2"}
{"time": "2026-11-20T03:19:02Z", "up": "link", "at": "r1:e2"}`;

/** Where what happened is known from: files of events, sent, downloaded, taken out. */
export function EventFiles({ networkId, mayEdit }: { networkId: string; mayEdit: boolean }) {
  const files = useEventFiles(networkId);
  const add = useAddEvents(networkId);
  const remove = useRemoveEvents(networkId);
  const [text, setText] = useState("");
  const pasted = useRef<HTMLTextAreaElement>(null);
  const shownTime = useTimes();
  const problems = add.error instanceof ApiError ? add.error.problems : [];
  return (
    <section aria-labelledby="files-title" data-testid="event-files">
      <h2 id="files-title" className="text-lg mb-1">
        Files of events
      </h2>
      <ul className="mb-4">
        {files.data?.map((file) => (
          <li key={file.id} className="border-t border-hair py-1 text-sm">
            <p className="flex gap-3 items-baseline">
              <span className="mono truncate">{file.file_name}</span>
              <span className="whitespace-nowrap">
                {file.samples > 0 ? counted(file.samples, "sample") : counted(file.count, "event")}
              </span>
              <a
                className="ml-auto underline underline-offset-2"
                href={`/api/networks/${networkId}/events/${file.id}`}
                download
              >
                download
              </a>
              {mayEdit && (
                <button
                  type="button"
                  className="text-faint hover:text-stop"
                  disabled={remove.isPending}
                  onClick={() => remove.mutate(file.id)}
                >
                  take out
                </button>
              )}
            </p>
            <p className="text-faint">
              {shownTime(file.first)} – {shownTime(file.last)}, sent by {file.created_by ?? "a former user"}
            </p>
          </li>
        ))}
      </ul>
      {mayEdit && (
        <form
          onSubmit={(event) => {
            event.preventDefault();
            add.mutate({ text }, { onSuccess: () => setText("") });
          }}
        >
          <label className="block border border-dashed border-faint px-3 py-3 mb-2 cursor-pointer focus-within:outline-2 outline-forward">
            <input
              type="file"
              name="events"
              accept=".jsonl,.json,.txt,.csv,.prom,.om,.mrt,.gz,.bz2,.xz"
              className="sr-only"
              onChange={(event) => {
                const file = event.target.files?.[0];
                if (file) add.mutate({ file });
                event.target.value = "";
              }}
            />
            Choose a file{" "}
            <span className="text-faint">
              — JSON Lines, one event on each; BGP updates as MRT; samples as CSV or OpenMetrics
            </span>
          </label>
          <textarea
            ref={pasted}
            aria-label="or paste events"
            placeholder={`or paste events:\n\n${EXAMPLE}`}
            value={text}
            onChange={(event) => setText(event.target.value)}
            spellCheck={false}
            className="mono w-full h-28 bg-sheet border border-hair p-2 mb-2 text-[12px]"
          />
          <button
            type="submit"
            className="border border-ink px-4 py-1 disabled:text-faint disabled:border-faint"
            disabled={!text.trim() || add.isPending}
          >
            {add.isPending ? "Reading …" : "Add what happened"}
          </button>
        </form>
      )}
      {add.data && add.data.unfitting > 0 && (
        <div className="mt-2 text-sm" role="status">
          <p>{add.data.unfitting.toLocaleString("en")} do not fit to what is known, and were kept:</p>
          {add.data.told.map((one) => (
            <p key={one} className="text-stop">
              {one}
            </p>
          ))}
        </div>
      )}
      {problems.length > 0 ? (
        <ProblemList problems={problems} choose={(problem) => selectLine(pasted.current, problem.line)} />
      ) : (
        add.error && (
          <p role="alert" className="text-stop mt-2">
            {add.error.message}
          </p>
        )
      )}
    </section>
  );
}

/** Shows a line of what was pasted; of a file that was sent there is none. */
function selectLine(area: HTMLTextAreaElement | null, line: number) {
  const lines = area?.value.split("\n") ?? [];
  const start = lines.slice(0, line - 1).join("\n").length + (line > 1 ? 1 : 0);
  area?.focus();
  area?.setSelectionRange(start, start + (lines[line - 1]?.length ?? 0));
}
