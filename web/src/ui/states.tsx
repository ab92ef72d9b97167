import type { ReactNode } from "react";
import { ApiError } from "../api/client";

export function Waiting({ what }: { what: string }) {
  return (
    <p className="p-6 text-faint italic" role="status">
      Fetching {what} …
    </p>
  );
}

export function Failed({ error, what }: { error: unknown; what: string }) {
  const message = error instanceof ApiError ? error.message : String(error);
  return (
    <div className="m-6 border-l-2 border-stop pl-3" role="alert">
      <p className="font-semibold">{what}</p>
      <p className="text-faint">{message}</p>
    </div>
  );
}

export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="p-6 max-w-prose">
      <p className="text-lg">{title}</p>
      <div className="text-faint mt-1">{children}</div>
    </div>
  );
}
