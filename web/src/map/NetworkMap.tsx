import { useMemo, useRef, useState } from "react";
import type { MapData } from "../api/client";
import { useMapMoves, useMoveDevice, usePutBack } from "../api/queries";
import { useCurrentNetwork } from "../frame/context";
import { MapChanges, type Picked } from "../trials/MapChanges";
import { download } from "../ui/download";
import { Key } from "../ui/Key";
import { useKeys } from "../ui/useKeys";
import type { AnswerMap } from "./answerMap";
import { cableName, draw } from "./drawing";
import { fitted, near, seen, stretchFor, type View, zoomed } from "./fit";
import type { Layout } from "./geometry";
import { layOut, type Moves, stretched, withMoves } from "./layout";
import { Picture } from "./Picture";
import { standalone } from "./standalone";
import { useDrag, useSize, useWheel } from "./usePane";
import type { Traces } from "./ways";

const NOTHING: Traces = { forward: [], back: [], endings: new Map(), touched: new Set() };
/** From so many devices on an answer is shown by its own map first. */
export const LARGE = 100;
const NEARER = 1.35;
const NUDGE = 12;

/** The network laid out by structure, with ways traced over it; what they do not touch is dimmed. */
export function NetworkMap({
  map,
  traces = NOTHING,
  own = null,
  chosen,
  choose,
}: {
  map: MapData;
  traces: Traces | undefined;
  /** The map of the answer alone, where there is one. */
  own?: AnswerMap | null;
  chosen: string | null;
  choose: (device: string) => void;
}) {
  const [wantsOwn, setWantsOwn] = useState<boolean | null>(null);
  const isOwn = own !== null && (wantsOwn ?? map.devices.length >= LARGE);
  const whole = useMemo(() => layOut(map), [map]);
  return (
    <Pane
      key={isOwn ? "answer" : "network"}
      map={isOwn ? own.map : map}
      layout={isOwn ? own.layout : whole}
      leftOut={isOwn ? own.leftOut : 0}
      traces={traces}
      chosen={chosen}
      choose={choose}
      isOwn={isOwn}
      turnOver={own ? () => setWantsOwn(!isOwn) : null}
    />
  );
}

function Pane({
  map,
  layout,
  leftOut,
  traces,
  chosen,
  choose,
  isOwn,
  turnOver,
}: {
  map: MapData;
  layout: Layout;
  leftOut: number;
  traces: Traces;
  chosen: string | null;
  choose: (device: string) => void;
  isOwn: boolean;
  turnOver: (() => void) | null;
}) {
  const host = useRef<HTMLDivElement>(null);
  const keys = useRef<HTMLParagraphElement>(null);
  const whole = useSize(host);
  // What stands below is not drawn over.
  const below = useSize(keys).height;
  const size = useMemo(
    () => ({ width: whole.width, height: Math.max(0, whole.height - below) }),
    [whole, below],
  );
  const [view, setView] = useState<View | null>(null);
  const [opened, setOpened] = useState<string | null>(null);
  const [sure, setSure] = useState(false);
  const [picked, setPicked] = useState<Picked | null>(null);
  const moving = useMoving(!isOwn);

  const [across, down] = stretchFor(layout, size);
  const drawn = useMemo(
    () => stretched(withMoves(layout, moving.moves), across, down),
    [layout, moving.moves, across, down],
  );
  const shown = view ?? fitted(drawn, size);
  const middle = { x: size.width / 2, y: size.height / 2 };
  const zoom = (factor: number, at: { x: number; y: number }) =>
    setView((before) => zoomed(before ?? shown, factor, at));
  useWheel(host, zoom);
  const drag = useDrag(shown, setView, moving.mayMove, (device, right, below, done) =>
    moving.move(device, right / across, below / down, done),
  );
  // All of it is seen: no name may leave the pane.
  const edge = view === null ? JSON.stringify(seen(shown, size)) : null;
  const visible = JSON.stringify(near(shown, size));
  const { scale } = shown;
  const { touched, endings } = traces;
  const drawing = useMemo(
    () =>
      draw({
        map,
        layout: drawn,
        scale,
        touched,
        endings,
        chosen,
        opened,
        visible: JSON.parse(visible),
        edge: edge === null ? null : JSON.parse(edge),
      }),
    [map, drawn, scale, touched, endings, chosen, opened, visible, edge],
  );
  const kinds = useMemo(() => new Map(map.devices.map((device) => [device.name, device.kind])), [map]);

  function save() {
    const picture = host.current?.querySelector("svg");
    if (picture) download(`${map.name} map.svg`, standalone(picture, themeColour), "image/svg+xml");
  }
  const nudge = (right: number, below: number) => {
    if (chosen && moving.mayMove)
      moving.move(chosen, (right * NUDGE) / scale / across, (below * NUDGE) / scale / down, true);
  };
  // It undoes work of others too: it is done when asked twice.
  const putBack = () => {
    if (sure) moving.putBack();
    setSure(!sure);
  };
  // The cables of the chosen device, one after the other.
  const nextCable = () => {
    const own = map.cables.filter((cable) => cable.ends.some((end) => end.device === chosen)).map(cableName);
    const next = own[own.indexOf(picked?.cables?.[0] ?? "") + 1];
    setPicked(next === undefined ? null : { cables: [next] });
  };
  const showWhole = () => {
    setView(null);
    setOpened(null);
  };
  const actions = [
    { key: "0", label: "whole", run: showWhole },
    { key: "+", label: "nearer", run: () => zoom(NEARER, middle) },
    { key: "-", label: "farther", run: () => zoom(1 / NEARER, middle) },
    ...(turnOver ? [{ key: "m", label: isOwn ? "the network" : "the answer's own", run: turnOver }] : []),
    { key: "g", label: "save as SVG", run: save },
    ...(moving.mayMove && moving.kept > 0
      ? [
          {
            key: "p",
            label: sure ? `put back ${moving.kept} for all?` : `put back ${moving.kept} moved`,
            run: putBack,
          },
        ]
      : []),
  ];
  useKeys({
    ...Object.fromEntries(actions.map((action) => [action.key, action.run])),
    ...(opened === null && picked === null
      ? {}
      : { Escape: () => (picked ? setPicked(null) : setOpened(null)) }),
    v: nextCable,
    H: () => nudge(-1, 0),
    L: () => nudge(1, 0),
    K: () => nudge(0, -1),
    J: () => nudge(0, 1),
  });

  return (
    <div
      ref={host}
      className="relative h-full overflow-hidden touch-none cursor-grab active:cursor-grabbing"
      {...drag}
      data-testid="map"
      data-shows={isOwn ? "answer" : "network"}
    >
      {size.width > 0 && (
        // biome-ignore lint/a11y/useSemanticElements: a drawing of buttons is no fieldset
        <svg width={whole.width} height={whole.height} role="group" aria-label="map of the network">
          <g transform={`translate(${shown.x} ${shown.y})`}>
            <Picture
              drawing={drawing}
              traces={traces}
              kinds={kinds}
              chosen={chosen}
              picked={picked?.cables ?? []}
              choose={(device) => {
                setPicked(touched.has(device) ? null : { device });
                choose(device);
              }}
              pick={(cables) => setPicked({ cables })}
              open={setOpened}
            />
          </g>
        </svg>
      )}
      {picked && <MapChanges map={map} picked={picked} close={() => setPicked(null)} />}
      {leftOut > 0 && (
        <p className="absolute left-3 top-2 text-sm text-faint">
          {leftOut} more neighbour{leftOut === 1 ? "" : "s"} not drawn
        </p>
      )}
      <p ref={keys} className="absolute left-3 right-3 bottom-2 text-sm text-faint flex flex-wrap gap-x-3">
        {actions.map((action) => (
          <button key={action.key} type="button" className="hover:text-ink bg-paper" onClick={action.run}>
            {action.label} <Key>{action.key}</Key>
          </button>
        ))}
        {chosen !== null && (
          <button type="button" className="hover:text-ink bg-paper" onClick={nextCable}>
            its cables <Key>v</Key>
          </button>
        )}
        {moving.mayMove && chosen !== null && (
          <span title="a device is moved by dragging it, or by these keys where it is chosen">
            move <Key>HJKL</Key>
          </span>
        )}
        {moving.failed && <span className="text-stop">The move was not kept: {moving.failed}</span>}
      </p>
    </div>
  );
}

/** What is moved by hand: as it is kept, and as it is being dragged. */
function useMoving(isNetwork: boolean) {
  const { network } = useCurrentNetwork();
  const kept = useMapMoves(network.id);
  const save = useMoveDevice(network.id);
  const back = usePutBack(network.id);
  const [dragged, setDragged] = useState<{ device: string; by: [number, number] } | null>(null);
  const moves = useMemo(() => {
    const found: Record<string, readonly [number, number]> = {};
    if (!isNetwork) return found;
    for (const move of kept.data ?? []) found[move.device] = [move.right, move.down];
    if (dragged) {
      const [right, down] = found[dragged.device] ?? [0, 0];
      found[dragged.device] = [right + dragged.by[0], down + dragged.by[1]];
    }
    return found satisfies Moves;
  }, [kept.data, dragged, isNetwork]);
  return {
    moves,
    kept: kept.data?.length ?? 0,
    mayMove: isNetwork && network.role !== "reader" && kept.isSuccess,
    move(device: string, right: number, down: number, done: boolean) {
      if (!done) return setDragged({ device, by: [right, down] });
      const before = kept.data?.find((one) => one.device === device);
      setDragged(null);
      save.mutate({ device, right: (before?.right ?? 0) + right, down: (before?.down ?? 0) + down });
    },
    putBack: () => back.mutate(),
    failed: (save.error ?? back.error)?.message ?? null,
  };
}

function themeColour(name: string): string {
  return getComputedStyle(document.documentElement).getPropertyValue(name).trim();
}
