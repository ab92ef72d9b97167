import { Link, useSearchParams } from "react-router";
import type { Place } from "../api/client";
import { stateOf, useCurrentNetwork } from "../frame/context";

/** A link to the exact line of the source text, of the revision that is looked at or another. */
export function SourceLink({ place, revision }: { place: Place; revision?: number }) {
  const { network } = useCurrentNetwork();
  const [search] = useSearchParams();
  const query = new URLSearchParams({
    file: place.file,
    line: String(place.line),
    column: String(place.column),
    ...(revision === undefined ? stateOf(search) : { revision: String(revision) }),
  });
  return (
    <Link
      to={`/networks/${network.id}/model/source?${query}`}
      className="mono text-forward underline underline-offset-2"
      data-testid="source-link"
    >
      {place.file}:{place.line}
    </Link>
  );
}
