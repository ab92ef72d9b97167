import type { Schemas } from "../api/client";

type SourceFile = Schemas["SourceFile"];
export type FileChange = { file: string; what: "came" | "gone" | "changed" };

/** The files of two revisions that differ, by name. */
export function changedFiles(before: SourceFile[], after: SourceFile[]): FileChange[] {
  const [old, new_] = [before, after].map((files) => new Map(files.map((one) => [one.file, one.digest]))) as [
    Map<string, string>,
    Map<string, string>,
  ];
  return [...new Set([...old.keys(), ...new_.keys()])]
    .sort()
    .filter((file) => old.get(file) !== new_.get(file))
    .map((file) => ({ file, what: !old.has(file) ? "came" : !new_.has(file) ? "gone" : "changed" }));
}
