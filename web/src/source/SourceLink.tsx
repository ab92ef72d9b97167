import { Link, useSearchParams } from "react-router";
import type { Place } from "../api/client";
import { stateOf, useCurrentNetwork } from "../frame/context";

/** A link to the exact line of the source text. */
export function SourceLink({ place }: { place: Place }) {
  const { network } = useCurrentNetwork();
  const [search] = useSearchParams();
  const query = new URLSearchParams({
    file: place.file,
    line: String(place.line),
    column: String(place.column),
    ...stateOf(search),
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
