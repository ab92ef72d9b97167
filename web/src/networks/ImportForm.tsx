import { type DragEvent, type FormEvent, lazy, Suspense, useState } from "react";
import { ApiError } from "../api/client";
import type { UploadContent } from "../api/uploads";
import { ProblemList } from "./ProblemList";
import { UploadProgress } from "./UploadProgress";

const SourceText = lazy(() => import("../source/SourceText"));
const SHOWN_BYTES = 400_000;

/** A file or pasted text; where it cannot be loaded, its errors, in their places in the text. */
export function ImportForm({
  withName = false,
  pending,
  error,
  submit,
}: {
  withName?: boolean;
  pending: boolean;
  error: Error | null;
  submit: (content: UploadContent) => void;
}) {
  const [file, setFile] = useState<File | null>(null);
  const [text, setText] = useState("");
  const [name, setName] = useState("");
  const [note, setNote] = useState("");
  const [over, setOver] = useState(false);
  const [sent, setSent] = useState("");
  const [line, setLine] = useState<number>();

  async function send(event: FormEvent) {
    event.preventDefault();
    const optional = { ...(name ? { name } : {}), ...(note ? { note } : {}) };
    setLine(undefined);
    const readable = file && !/\.zip$/i.test(file.name) && file.size < SHOWN_BYTES;
    setSent(file ? (readable ? await file.text() : "") : text);
    submit(file ? { file, ...optional } : { text, ...optional });
  }

  function drop(event: DragEvent) {
    event.preventDefault();
    setOver(false);
    setFile(event.dataTransfer.files[0] ?? null);
  }

  const problems = error instanceof ApiError ? error.problems : [];
  return (
    <form onSubmit={send}>
      <label
        onDragOver={(event) => {
          event.preventDefault();
          setOver(true);
        }}
        onDragLeave={() => setOver(false)}
        onDrop={drop}
        className={`block border border-dashed px-4 py-4 mb-3 cursor-pointer focus-within:outline-2 outline-forward ${over ? "border-forward bg-wash" : "border-faint"}`}
      >
        <input
          type="file"
          name="file"
          accept=".yaml,.yml,.json,.xml,.csv,.txt,.mrt,.zip"
          className="sr-only"
          onChange={(event) => setFile(event.target.files?.[0] ?? null)}
        />
        {file ? (
          <span className="mono">{file.name}</span>
        ) : (
          <span>
            Choose or drop a file{" "}
            <span className="text-faint">
              — a network file, a device's document or table, or a zip archive of a folder of them
            </span>
          </span>
        )}
      </label>
      {file ? (
        <button type="button" className="text-faint hover:text-ink mb-3" onClick={() => setFile(null)}>
          take the file back and paste text instead
        </button>
      ) : (
        <textarea
          name="text"
          aria-label="or paste a network file"
          placeholder={"or paste a network file:\n\nroutrel: 1\nname: …\ndevices:\n  …"}
          value={text}
          onChange={(event) => setText(event.target.value)}
          spellCheck={false}
          className="mono w-full h-40 bg-sheet border border-hair p-2 mb-3"
        />
      )}
      <div className="flex gap-3 mb-3">
        {withName && (
          <input
            aria-label="name, where it should differ from the file's"
            placeholder="name (else the file's own)"
            value={name}
            onChange={(event) => setName(event.target.value)}
            className="flex-1 border-b border-hair bg-transparent py-1"
          />
        )}
        <input
          aria-label="a note for this revision"
          placeholder="note (optional)"
          value={note}
          onChange={(event) => setNote(event.target.value)}
          className="flex-1 border-b border-hair bg-transparent py-1"
        />
        <button
          type="submit"
          disabled={pending || !(file || text.trim())}
          className="border border-ink px-4 py-1 hover:bg-wash disabled:opacity-50 disabled:cursor-default"
        >
          {pending ? "reading …" : "import"}
        </button>
      </div>
      <UploadProgress />
      {error && (
        <div role="alert">
          <p className="text-stop mb-2">{error.message}; nothing was stored.</p>
          <ProblemList problems={problems} choose={(problem) => setLine(problem.line)} />
          {sent && problems.length > 0 && (
            <Suspense fallback={null}>
              <div className="h-72 border border-hair mt-3">
                <SourceText
                  text={sent}
                  line={line ?? problems[0]?.line}
                  marks={problems.map((problem) => ({ line: problem.line, message: problem.message }))}
                />
              </div>
            </Suspense>
          )}
        </div>
      )}
    </form>
  );
}
