import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { useFindings } from "../api/answers";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { SourceLink } from "../source/SourceLink";
import { TryButton } from "../trials/TryButton";
import { csv, download } from "../ui/download";
import { Key } from "../ui/Key";
import { Empty, Failed, Waiting } from "../ui/states";
import { useKeys } from "../ui/useKeys";

const SEVERITIES = ["error", "warning", "note"] as const;
const MARKS = { error: "M8 2V9M8 12.5V13.5", warning: "M8 2 14.5 13.5H1.5Z", note: "M3 8H13" };

export function ProblemsPage() {
  const { revision } = useCurrentNetwork();
  const findings = useFindings(revision);
  const [search] = useSearchParams();
  const [only, setOnly] = useState<string>("");
  const scroller = useRef<HTMLElement>(null);
  const shown = useMemo(
    () => findings.data?.filter((finding) => !only || finding.severity === only) ?? [],
    [findings.data, only],
  );
  const rows = useVirtualizer({
    count: shown.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => 58,
    overscan: 12,
  });
  function save() {
    const titles = ["severity", "code", "device", "interface", "message", "places"];
    const lines = shown.map((finding) => [
      finding.severity,
      finding.code,
      finding.device,
      finding.interface,
      finding.message,
      finding.places.map((place) => `${place.file}:${place.line}`).join(" "),
    ]);
    download("problems.csv", csv([titles, ...lines]), "text/csv");
  }
  useKeys({ s: save });
  if (findings.isPending) return <Waiting what="the problems" />;
  if (findings.isError) return <Failed error={findings.error} what="The problems cannot be shown." />;
  if (findings.data.length === 0)
    return (
      <Empty title="No problems found in the model.">
        Addresses, subnets, packet sizes, OSPF neighbours, next hops and filters were examined.
      </Empty>
    );
  return (
    <div className="h-full flex flex-col px-6 pt-4">
      <div className="flex items-baseline gap-4 pb-3">
        <h2 className="text-lg">Problems of the model</h2>
        {SEVERITIES.map((severity) => {
          const count = findings.data.filter((finding) => finding.severity === severity).length;
          return (
            <button
              key={severity}
              type="button"
              aria-pressed={only === severity}
              onClick={() => setOnly(only === severity ? "" : severity)}
              className={`border-b-2 ${only === severity ? "border-ink" : "border-transparent text-faint hover:text-ink"}`}
            >
              {count} {severity}
              {count === 1 ? "" : "s"}
            </button>
          );
        })}
        <button type="button" className="ml-auto text-faint hover:text-ink" onClick={save}>
          save as CSV <Key>s</Key>
        </button>
      </div>
      <section
        ref={scroller}
        className="flex-1 overflow-auto"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reached by key
        tabIndex={0}
        aria-label="problems"
      >
        <ol className="relative" style={{ height: rows.getTotalSize() }}>
          {rows.getVirtualItems().map((item) => {
            const finding = shown[item.index];
            if (!finding) return null;
            return (
              <li
                key={item.key}
                ref={rows.measureElement}
                data-index={item.index}
                className="absolute inset-x-0 border-t border-hair py-2 flex gap-3"
                style={{ transform: `translateY(${item.start}px)` }}
              >
                <svg
                  width="16"
                  height="16"
                  viewBox="0 0 16 16"
                  className={`mt-1 shrink-0 ${finding.severity === "note" ? "text-faint" : "text-stop"}`}
                  role="img"
                  aria-label={finding.severity}
                >
                  <title>{finding.severity}</title>
                  <path d={MARKS[finding.severity]} fill="none" stroke="currentColor" strokeWidth="2" />
                </svg>
                <div>
                  <p>{finding.message}</p>
                  <p className="flex flex-wrap gap-3 text-sm">
                    {finding.places.map((place) => (
                      <SourceLink key={`${place.file}:${place.line}:${place.column}`} place={place} />
                    ))}
                    {finding.device && (
                      <Link
                        to={`../edit?${new URLSearchParams({ ...stateOf(search), device: finding.device })}`}
                        relative="path"
                        className="text-good underline underline-offset-2"
                      >
                        edit {finding.device} in a trial
                      </Link>
                    )}
                    {finding.offers.map((offer) => (
                      <TryButton key={offer.label} changes={[offer.change]} label={`try ${offer.label}`} />
                    ))}
                  </p>
                </div>
              </li>
            );
          })}
        </ol>
      </section>
    </div>
  );
}
