import { useState } from "react";
import { isBeingRead, type Upload, useUploads } from "../api/uploads";
import { ProblemList } from "./ProblemList";
import { STAGE_WORDS, STAGES, sizeText, uploadWords } from "./uploadWords";

/** Large uploads that a worker is at, and those that could not be loaded while one was elsewhere. */
export function UploadProgress() {
  const { uploads, forget } = useUploads();
  const shown = uploads.filter((one) => one.state !== "done");
  if (!shown.length) return null;
  return (
    <ul className="my-3" aria-label="uploads under way" data-testid="uploads">
      {shown.map((upload) => (
        <li key={upload.id} className="border-t border-hair py-2">
          <UploadLine upload={upload} forget={() => void forget(upload.id)} />
        </li>
      ))}
    </ul>
  );
}

function UploadLine({ upload, forget }: { upload: Upload; forget: () => void }) {
  const [isOpen, setOpen] = useState(false);
  const isUnderWay = isBeingRead(upload);
  return (
    <>
      <div className="flex items-baseline gap-3">
        <span className="mono truncate">{upload.file_name}</span>
        <span className="text-faint whitespace-nowrap">{sizeText(upload.size)}</span>
        <button type="button" className="ml-auto underline underline-offset-2 min-h-6" onClick={forget}>
          {isUnderWay ? "give it up" : "forget it"}
        </button>
      </div>
      {isUnderWay && <Stages upload={upload} />}
      <p className={isUnderWay ? "text-faint italic" : "text-stop"} role={isUnderWay ? undefined : "alert"}>
        {uploadWords(upload)}{" "}
        {upload.errors.length > 0 && (
          <button
            type="button"
            aria-expanded={isOpen}
            className="underline underline-offset-2 min-h-6"
            onClick={() => setOpen(!isOpen)}
          >
            {isOpen ? "hide them" : "show them"}
          </button>
        )}
      </p>
      {isOpen && <ProblemList problems={upload.errors} choose={() => undefined} />}
    </>
  );
}

/** The steps that a worker takes, those that are done filled. */
function Stages({ upload }: { upload: Upload }) {
  const at = upload.stage === null ? -1 : STAGES.indexOf(upload.stage);
  return (
    <div
      className="flex gap-1 my-1.5"
      role="progressbar"
      aria-label={`how far ${upload.file_name} is`}
      aria-valuemin={0}
      aria-valuemax={STAGES.length}
      aria-valuenow={at + 1}
    >
      {STAGES.map((stage, number) => (
        <span
          key={stage}
          title={STAGE_WORDS[stage]}
          className={`h-1 flex-1 ${number < at ? "bg-forward" : number === at ? "bg-return" : "bg-hair"}`}
        />
      ))}
    </div>
  );
}
