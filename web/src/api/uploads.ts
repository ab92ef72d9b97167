import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { ApiError, api, type Schemas, unwrap } from "./client";

export type Upload = Schemas["UploadAnswer"];

export type UploadContent = { file?: File; text?: string; name?: string; note?: string; network?: string };

function formOf(content: UploadContent): FormData {
  const form = new FormData();
  for (const [key, value] of Object.entries(content)) if (value !== undefined) form.append(key, value);
  return form;
}

/** Multipart bodies are built here; the schema's type for them is the JSON form. */
export function multipart(content: UploadContent) {
  return { body: content as never, bodySerializer: () => formOf(content) };
}

const UPLOAD = "/api/uploads/{upload}";
const LOOKS = 500;

/** Bytes from which on an upload is left to a worker: what is smaller is read while one waits. */
const LARGE = 200_000;

export function isLarge({ file, text }: UploadContent): boolean {
  return (file?.size ?? text?.length ?? 0) >= LARGE;
}

export function isBeingRead({ state }: Pick<Upload, "state">): boolean {
  return state === "waiting" || state === "running";
}

/** An upload read by a worker, once it is stored; else an `ApiError` with what is wrong with it. */
export async function readByWorker(content: UploadContent, changed: () => void): Promise<Upload> {
  let upload: Upload = await unwrap(api.POST("/api/uploads", multipart(content)));
  changed();
  const params = { path: { upload: upload.id } };
  while (isBeingRead(upload)) {
    await new Promise((resolve) => setTimeout(resolve, LOOKS));
    try {
      upload = await unwrap(api.GET(UPLOAD, { params }));
    } catch (error) {
      if (error instanceof ApiError && error.status === 404)
        throw new ApiError(404, "The upload was given up");
      if (!(error instanceof ApiError) || (error.status !== 0 && error.status !== 503)) throw error;
    }
  }
  if (upload.state === "failed") {
    await unwrap(api.DELETE(UPLOAD, { params })); // it is said here
    changed();
    throw new ApiError(400, upload.problem.replace(/\.$/, ""), upload.errors);
  }
  return upload;
}

/** What asks anew which uploads there are. */
export function useUploadsChanged(): () => void {
  const queries = useQueryClient();
  return () => void queries.invalidateQueries({ queryKey: ["uploads"] });
}

/** One's own uploads that workers read; what they become is asked for anew when one is done. */
export function useUploads() {
  const queries = useQueryClient();
  const changed = useUploadsChanged();
  const uploads = useQuery({
    queryKey: ["uploads"],
    queryFn: () => unwrap(api.GET("/api/uploads")),
    refetchInterval: ({ state }) => (state.data?.some(isBeingRead) ? LOOKS : false),
  });
  const done = uploads.data?.filter((one) => one.state === "done").length ?? 0;
  // biome-ignore lint/correctness/useExhaustiveDependencies: each one that is done is a reason to ask
  useEffect(() => {
    for (const list of ["networks", "revisions"]) void queries.invalidateQueries({ queryKey: [list] });
  }, [done, queries]);
  async function forget(upload: string) {
    await unwrap(api.DELETE(UPLOAD, { params: { path: { upload } } }));
    changed();
  }
  return { uploads: uploads.data ?? [], forget };
}
