import { useMemo, useRef } from "react";
import type { MapData } from "../api/client";
import type { AnswerMap } from "./answerMap";
import { draw } from "./drawing";
import { fitted, near, seen, stretchFor } from "./fit";
import { layOut, stretched } from "./layout";
import { LARGE } from "./NetworkMap";
import { Picture } from "./Picture";
import { useSize } from "./usePane";
import type { Traces } from "./ways";

/** A small map that is only looked at: the ways of one answer over the network, of a large one over what is near. Who
 * does not see it has the stops beside it. */
export function WayMap({
  map,
  traces,
  own,
  chosen,
}: {
  map: MapData;
  traces: Traces;
  own: AnswerMap;
  chosen: string | null;
}) {
  const host = useRef<HTMLDivElement>(null);
  const size = useSize(host);
  const isOwn = map.devices.length >= LARGE;
  const shownMap = isOwn ? own.map : map;
  const layout = useMemo(() => (isOwn ? own.layout : layOut(map)), [isOwn, own, map]);
  const drawn = useMemo(() => stretched(layout, ...stretchFor(layout, size)), [layout, size]);
  const view = fitted(drawn, size);
  const kinds = useMemo(
    () => new Map(shownMap.devices.map((device) => [device.name, device.kind])),
    [shownMap],
  );
  const drawing = draw({
    map: shownMap,
    layout: drawn,
    scale: view.scale,
    touched: traces.touched,
    endings: traces.endings,
    chosen,
    opened: null,
    visible: near(view, size),
    edge: seen(view, size),
  });
  return (
    <div ref={host} inert className="h-full overflow-hidden" data-testid="way-map">
      {size.width > 0 && (
        <svg width={size.width} height={size.height}>
          <title>its ways on the map</title>
          <g transform={`translate(${view.x} ${view.y})`}>
            <Picture
              drawing={drawing}
              traces={traces}
              kinds={kinds}
              chosen={chosen}
              picked={[]}
              choose={nothing}
              pick={nothing}
              open={nothing}
            />
          </g>
        </svg>
      )}
    </div>
  );
}

function nothing() {}
