import { type PointerEvent, useEffect, useMemo, useRef, useState } from "react";
import type { MapData } from "../api/client";
import { download } from "../ui/download";
import { Key } from "../ui/Key";
import { useKeys } from "../ui/useKeys";
import { layOut, type Point } from "./layout";
import { Picture, type Size, type View } from "./Picture";
import { standalone } from "./standalone";
import type { Traces } from "./ways";

const MARGIN = { x: 108, y: 54 };

function fitted(points: Point[], size: Size): View {
  if (points.length === 0 || size.width === 0) return { scale: 1, x: 0, y: 0 };
  const xs = points.map((point) => point.x);
  const ys = points.map((point) => point.y);
  const [left, right, top, bottom] = [Math.min(...xs), Math.max(...xs), Math.min(...ys), Math.max(...ys)];
  const scale = Math.min(
    2.2,
    (size.width - 2 * MARGIN.x) / Math.max(1, right - left),
    (size.height - 2 * MARGIN.y) / Math.max(1, bottom - top),
  );
  return {
    scale,
    x: size.width / 2 - (scale * (left + right)) / 2,
    y: size.height / 2 - (scale * (top + bottom)) / 2,
  };
}

/** The network laid out by site, with ways traced over it; what they do not touch is dimmed. */
export function NetworkMap({
  map,
  traces,
  chosen,
  choose,
}: {
  map: MapData;
  traces: Traces | undefined;
  chosen: string | null;
  choose: (device: string) => void;
}) {
  const layout = useMemo(() => layOut(map), [map]);
  const host = useRef<HTMLDivElement>(null);
  const [size, setSize] = useState<Size>({ width: 0, height: 0 });
  const [view, setView] = useState<View | null>(null);
  const drag = useRef<{ x: number; y: number; view: View; moved: boolean } | null>(null);

  useEffect(() => {
    const element = host.current;
    if (!element) return;
    const observer = new ResizeObserver(() =>
      setSize({ width: element.clientWidth, height: element.clientHeight }),
    );
    observer.observe(element);
    return () => observer.disconnect();
  }, []);

  const all = useMemo(() => [...layout.devices.values()], [layout]);
  const shown = view ?? fitted(all, size);
  const zoom = (factor: number, at: Point) =>
    setView((before) => {
      const old = before ?? shown;
      const scale = Math.min(8, Math.max(0.05, old.scale * factor));
      const ratio = scale / old.scale;
      return { scale, x: at.x - (at.x - old.x) * ratio, y: at.y - (at.y - old.y) * ratio };
    });
  const middle = { x: size.width / 2, y: size.height / 2 };
  function save() {
    const drawing = host.current?.querySelector("svg");
    if (drawing) download(`${map.name} map.svg`, standalone(drawing, themeColour), "image/svg+xml");
  }
  useKeys({
    g: save,
    "+": () => zoom(1.35, middle),
    "-": () => zoom(1 / 1.35, middle),
    "0": () => setView(null),
  });

  // React's wheel listeners are passive: this one must keep the page from scrolling.
  const zoomNow = useRef(zoom);
  zoomNow.current = zoom;
  useEffect(() => {
    const element = host.current;
    if (!element) return;
    const wheel = (event: WheelEvent) => {
      event.preventDefault();
      const box = element.getBoundingClientRect();
      zoomNow.current(Math.exp(-event.deltaY * 0.0016), {
        x: event.clientX - box.left,
        y: event.clientY - box.top,
      });
    };
    element.addEventListener("wheel", wheel, { passive: false });
    return () => element.removeEventListener("wheel", wheel);
  }, []);

  function down(event: PointerEvent) {
    drag.current = { x: event.clientX, y: event.clientY, view: shown, moved: false };
  }
  function move(event: PointerEvent) {
    const start = drag.current;
    if (!start) return;
    const [dx, dy] = [event.clientX - start.x, event.clientY - start.y];
    if (!start.moved && Math.hypot(dx, dy) < 4) return;
    start.moved = true;
    event.currentTarget.setPointerCapture(event.pointerId);
    setView({ ...start.view, x: start.view.x + dx, y: start.view.y + dy });
  }

  return (
    <div
      ref={host}
      className="relative h-full overflow-hidden touch-none cursor-grab active:cursor-grabbing"
      onPointerDown={down}
      onPointerMove={move}
      onPointerUp={() => {
        drag.current = null;
      }}
      data-testid="map"
    >
      {size.width > 0 && (
        <svg width={size.width} height={size.height} aria-label="map of the network">
          <g transform={`translate(${shown.x} ${shown.y})`}>
            <Picture
              map={map}
              layout={layout}
              scale={shown.scale}
              traces={traces}
              chosen={chosen}
              choose={choose}
              window={cut(shown, size)}
              zoom={zoom}
              view={shown}
            />
          </g>
        </svg>
      )}
      <p className="absolute left-3 bottom-2 text-sm text-faint flex gap-3">
        <button type="button" className="hover:text-ink" onClick={() => setView(null)}>
          whole <Key>0</Key>
        </button>
        <button type="button" className="hover:text-ink" onClick={() => zoom(1.35, middle)}>
          nearer <Key>+</Key>
        </button>
        <button type="button" className="hover:text-ink" onClick={() => zoom(1 / 1.35, middle)}>
          farther <Key>-</Key>
        </button>
        <button type="button" className="hover:text-ink" onClick={save}>
          save as SVG <Key>g</Key>
        </button>
      </p>
    </div>
  );
}

function themeColour(name: string): string {
  return getComputedStyle(document.documentElement).getPropertyValue(name).trim();
}

/** The part of the picture near the window, in steps, so that a pan draws anew only now and then. */
function cut(view: View, size: Size): string {
  const step = 300;
  const left = Math.floor(-view.x / step) * step - step;
  const top = Math.floor(-view.y / step) * step - step;
  return [left, top, left + size.width + 3 * step, top + size.height + 3 * step].join(" ");
}

/** A strand's steps as arrows, each kept to its own side of the cable so that both strands are seen. */
