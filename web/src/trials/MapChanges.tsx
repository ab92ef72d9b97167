import { Link, useSearchParams } from "react-router";
import type { MapData } from "../api/client";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { cableName } from "../map/drawing";
import { TryButton } from "./TryButton";
import { useTry } from "./useTry";
import { useWriteLine } from "./writing";

type Cable = MapData["cables"][number];

/** Cables between the same two marks that are listed; a line may stand for hundreds. */
const MOST_CABLES = 4;
const ROUTED = ["router", "firewall"];

/** What is picked on the map: a cable or several in one line, or a device that no way touches. */
export type Picked = { cables: string[]; device?: undefined } | { device: string; cables?: undefined };

/** What can be tried of what is picked on the map. */
export function MapChanges({ map, picked, close }: { map: MapData; picked: Picked; close: () => void }) {
  const { network } = useCurrentNetwork();
  const [search] = useSearchParams();
  const names = new Set(picked.cables);
  const cables = map.cables.filter((cable) => names.has(cableName(cable)));
  return (
    <section
      className="absolute left-3 top-3 max-w-[min(30rem,90%)] bg-paper border border-hair px-3 py-1.5 text-[13.5px] cursor-default"
      aria-label="what is picked on the map"
      data-testid="map-changes"
      onPointerDown={(event) => event.stopPropagation()}
    >
      <button
        type="button"
        className="float-right ml-3 text-faint hover:text-ink"
        onClick={close}
        aria-label="close"
      >
        ×
      </button>
      {picked.device !== undefined && (
        <p className="flex flex-wrap gap-x-3">
          <span className="mono">{picked.device}</span>
          <span className="text-faint">try</span>
          <TryButton changes={[{ disable: "device", at: picked.device }]} label="off" />
          <Link
            className="text-good underline underline-offset-2"
            to={`/networks/${network.id}/model/edit?${new URLSearchParams({ ...stateOf(search), device: picked.device })}`}
          >
            edit its text
          </Link>
        </p>
      )}
      {cables.slice(0, MOST_CABLES).map((cable) => (
        <CableChanges key={cableName(cable)} cable={cable} map={map} />
      ))}
      {cables.length > MOST_CABLES && (
        <p className="text-faint">and {cables.length - MOST_CABLES} more between the two</p>
      )}
    </section>
  );
}

function CableChanges({ cable, map }: { cable: Cable; map: MapData }) {
  const writeLine = useWriteLine();
  const { isBusy } = useTry();
  const ends = cable.ends.slice(0, 2).map((end) => ({ ...end, name: `${end.device}:${end.interface}` }));
  const kinds = new Map(map.devices.map((device) => [device.name, device.kind]));
  return (
    <div>
      <p className="mono">
        {cableName(cable)} {!cable.up && <span className="text-stop">down</span>}
      </p>
      <p className="flex flex-wrap gap-x-3">
        <span className="text-faint">try</span>
        {cable.link !== null && ends[0] && (
          <TryButton
            changes={[{ [cable.up ? "disable" : "enable"]: "link", at: ends[0].name }]}
            label={`link ${cable.up ? "off" : "on"}`}
          />
        )}
        {ends.map(({ name }) => (
          <TryButton key={name} changes={[{ disable: "interface", at: name }]} label={`${name} off`} />
        ))}
        {ends
          .filter((end) => ROUTED.includes(kinds.get(end.device) ?? ""))
          .map(({ name }) => (
            <button
              key={name}
              type="button"
              disabled={isBusy}
              className="text-good underline underline-offset-2 hover:no-underline"
              onClick={() => writeLine(`set: cost, at: ${name}, to: `)}
            >
              cost of {name} …
            </button>
          ))}
      </p>
    </div>
  );
}
