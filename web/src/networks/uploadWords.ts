import type { Upload } from "../api/uploads";

export const STAGES = ["reading", "solving", "looking", "keeping"] as const;
export const STAGE_WORDS: Record<(typeof STAGES)[number], string> = {
  reading: "reading it",
  solving: "solving it",
  looking: "looking into it",
  keeping: "keeping what was solved",
};

/** How far an upload is, or why it is not stored. */
export function uploadWords(
  upload: Pick<Upload, "state" | "stage" | "seconds" | "workers" | "problem">,
): string {
  if (upload.state === "failed") return `${upload.problem.replace(/\.$/, "")}; nothing was stored.`;
  if (upload.state === "waiting" && !upload.workers)
    return "no worker is at work; ./routrel worker starts one";
  if (!upload.stage) return "waiting for a worker";
  return `${STAGE_WORDS[upload.stage]}, ${Math.round(upload.seconds ?? 0)} s so far`;
}

export function sizeText(bytes: number): string {
  return bytes < 1e6 ? `${Math.ceil(bytes / 1e3)} kB` : `${(bytes / 1e6).toFixed(1)} MB`;
}
