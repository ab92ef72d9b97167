import { useState } from "react";
import type { Availability } from "../api/history";
import { ThingsTable } from "./Outages";

/** The flow over the window in sentences, to be pasted in a ticket, and how all that it went over did. */
export function Story({ lines, things }: { lines: string[]; things: Availability[] }) {
  const [copied, setCopied] = useState(false);
  async function copy() {
    await navigator.clipboard.writeText(lines.join("\n"));
    setCopied(true);
    setTimeout(() => setCopied(false), 1500);
  }
  return (
    <div
      className="mt-1 h-[30vh] min-h-40 overflow-auto border-l-2 border-hair pl-3 text-[14px] grid gap-x-8 lg:grid-cols-2"
      data-testid="story"
    >
      <div>
        {lines.map((line) => (
          <p key={line}>{line}</p>
        ))}
        <button type="button" className="text-sm text-faint hover:text-ink min-h-6" onClick={copy}>
          {copied ? "copied" : "copy for a ticket"}
        </button>
      </div>
      <div>
        {things.length > 0 ? (
          <ThingsTable things={things} />
        ) : (
          <p className="text-faint">Nothing that it went over was down.</p>
        )}
      </div>
    </div>
  );
}
