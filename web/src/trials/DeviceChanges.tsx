import { type FormEvent, useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Stop } from "../api/client";
import { LeansOn } from "../expectations/LeansOn";
import { questionOf } from "../flows/sentence";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { TryButton } from "./TryButton";
import { useTry } from "./useTry";
import { type Wanted, WantedWay } from "./WantedWay";
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
  const question = questionOf(search);
  const [wanted, setWanted] = useState<Wanted | null>(null);
  const [leaning, setLeaning] = useState(false);
  const isHost = stops.some((stop) => stop.kind === "host");
  return (
    <div className="border-b border-hair text-[13.5px]">
      <div className="flex flex-wrap gap-x-3 px-3 py-1" data-testid="device-changes">
        <span className="text-faint">try</span>
        <TryButton changes={[{ disable: "device", at: device }]} label={`${device} off`} />
        {interfaces.map((name) => (
          <TryButton
            key={name}
            changes={[{ disable: "interface", at: `${device}:${name}` }]}
            label={`${name} off`}
          />
        ))}
        {(isHost ? [] : interfaces).map((name) => (
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
        {!isHost && (
          <button
            type="button"
            aria-expanded={leaning}
            className="text-good underline underline-offset-2 hover:no-underline"
            onClick={() => setLeaning(!leaning)}
          >
            what is expected of it
          </button>
        )}
        {!isHost && (
          <Link
            className="text-good underline underline-offset-2 hover:no-underline"
            to={`/networks/${network.id}/expect/maintenance?${new URLSearchParams({ ...stateOf(search), shut: `device ${device}` })}`}
          >
            shut it for maintenance
          </Link>
        )}
        {question.from && question.to && (
          <Lead device={isHost ? "" : device} look={setWanted} wanted={wanted} />
        )}
      </div>
      {wanted && <WantedWay wanted={wanted} />}
      {leaning && !isHost && <LeansOn key={device} device={device} />}
    </div>
  );
}

/** Where the flow is to be led: past the device that is looked at, or by another. */
function Lead({
  device,
  wanted,
  look,
}: {
  device: string;
  wanted: Wanted | null;
  look: (wanted: Wanted | null) => void;
}) {
  const [by, setBy] = useState("");
  function lead(event: FormEvent) {
    event.preventDefault();
    if (by.trim()) look({ passing: by.trim() });
  }
  return (
    <form onSubmit={lead} className="flex gap-x-3" data-testid="lead">
      {device && (
        <button
          type="button"
          aria-expanded={wanted !== null}
          className="text-good underline underline-offset-2 hover:no-underline"
          onClick={() => look(wanted ? null : { avoiding: device })}
        >
          lead the flow past {device}
        </button>
      )}
      <label className="flex gap-x-1 text-faint">
        lead it by
        <input
          value={by}
          placeholder="device"
          onChange={(event) => setBy(event.target.value)}
          className="w-28 mono bg-transparent border-b border-hair focus:border-ink text-ink"
        />
      </label>
    </form>
  );
}
