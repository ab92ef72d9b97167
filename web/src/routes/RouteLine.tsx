import { Link, useSearchParams } from "react-router";
import type { RouteChange, TableRow } from "../api/client";
import { actionText, kindText } from "../contest/words";
import { stateOf, useCurrentNetwork } from "../frame/context";

/** A route that is another than before: from what to what, leading to its contest. */
export function RouteLine({
  change,
  state,
}: {
  change: RouteChange;
  /** Of what it is told; else of what the address says. */
  state?: Record<string, string>;
}) {
  const { network } = useCurrentNetwork();
  const [search] = useSearchParams();
  const query = new URLSearchParams({
    device: change.device,
    prefix: change.prefix,
    ...(state ?? stateOf(search)),
  });
  if (change.vrf !== "default") query.set("vrf", change.vrf);
  const { before, after } = change;
  return (
    <li className="border-t border-hair/70 py-0.5">
      <span className="mono">
        {change.device}
        {change.vrf === "default" ? "" : `/${change.vrf}`}
      </span>{" "}
      <Link
        className="mono text-forward underline underline-offset-2"
        to={`/networks/${network.id}/routes/table?${query}`}
      >
        {change.prefix}
      </Link>
      <span className="block text-[13px] text-faint">
        {before && after && way(before) === way(after)
          ? `the same way, ${rank(before)} → ${rank(after)}`
          : `${words(before)} → ${words(after)}`}
      </span>
      {change.reason && <span className="block text-[13px]">{change.reason}</span>}
    </li>
  );
}

const rank = (row: TableRow) => `${row.preference ?? "–"}/${row.metric ?? "–"}`;
const way = (row: TableRow) => `${kindText(row)} ${actionText(row)}`;
const words = (row: TableRow | null) => (row ? `${kindText(row)} ${rank(row)} ${actionText(row)}` : "none");
