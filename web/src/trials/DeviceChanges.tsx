import { Link, useSearchParams } from "react-router";
import type { Stop } from "../api/client";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { TryButton } from "./TryButton";
import { useTry } from "./useTry";
import { useWriteLine } from "./writing";

const MOST_SHOWN = 6;

/** What may be tried at a device: it or what its packets leave by shut, a cost, its text. */
export function DeviceChanges({ device, stops }: { device: string; stops: Stop[] }) {
  const { network } = useCurrentNetwork();
  const [search] = useSearchParams();
  const writeLine = useWriteLine();
  const { isBusy } = useTry();
  const used = stops.flatMap((stop) => [stop.ingress, ...stop.branches.map((branch) => branch.interface)]);
  const interfaces = [...new Set(used.filter((name): name is string => Boolean(name)))].slice(0, MOST_SHOWN);
  const edit = new URLSearchParams({ ...stateOf(search), device });
  return (
    <p
      className="flex flex-wrap gap-x-3 px-3 py-1 border-b border-hair text-[13.5px]"
      data-testid="device-changes"
    >
      <span className="text-faint">try</span>
      <TryButton changes={[{ disable: "device", at: device }]} label={`${device} off`} />
      {interfaces.map((name) => (
        <TryButton
          key={name}
          changes={[{ disable: "interface", at: `${device}:${name}` }]}
          label={`${name} off`}
        />
      ))}
      {(stops.some((stop) => stop.kind === "host") ? [] : interfaces).map((name) => (
        <button
          key={name}
          type="button"
          disabled={isBusy}
          className="text-good underline underline-offset-2 hover:no-underline"
          onClick={() => writeLine(`set: cost, at: ${device}:${name}, to: `)}
        >
          cost of {name} …
        </button>
      ))}
      <Link
        to={`/networks/${network.id}/model/edit?${edit}`}
        className="text-good underline underline-offset-2 hover:no-underline"
      >
        edit its text
      </Link>
    </p>
  );
}
