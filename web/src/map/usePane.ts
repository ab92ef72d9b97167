import { type PointerEvent, type RefObject, useEffect, useRef, useState } from "react";
import type { Size, View } from "./fit";

/** How large an element is, as it changes. */
export function useSize(host: RefObject<HTMLElement | null>): Size {
  const [size, setSize] = useState<Size>({ width: 0, height: 0 });
  useEffect(() => {
    const element = host.current;
    if (!element) return;
    const observer = new ResizeObserver(() =>
      setSize({ width: element.clientWidth, height: element.clientHeight }),
    );
    observer.observe(element);
    return () => observer.disconnect();
  }, [host]);
  return size;
}

/** The wheel, which zooms at the pointer and must not scroll the page: React's own listeners could not keep it. */
export function useWheel(
  host: RefObject<HTMLElement | null>,
  zoom: (factor: number, at: { x: number; y: number }) => void,
) {
  const latest = useRef(zoom);
  latest.current = zoom;
  useEffect(() => {
    const element = host.current;
    if (!element) return;
    const wheel = (event: WheelEvent) => {
      event.preventDefault();
      const box = element.getBoundingClientRect();
      latest.current(Math.exp(-event.deltaY * 0.0016), {
        x: event.clientX - box.left,
        y: event.clientY - box.top,
      });
    };
    element.addEventListener("wheel", wheel, { passive: false });
    return () => element.removeEventListener("wheel", wheel);
  }, [host]);
}

type Drag = { x: number; y: number; view: View; device: string | null; moved: boolean };
const SLACK = 4;

/** Dragging: the ground pans the view, a device that may be moved moves. */
export function useDrag(
  shown: View,
  setView: (view: View) => void,
  mayMove: boolean,
  move: (device: string, right: number, down: number, done: boolean) => void,
) {
  const drag = useRef<Drag | null>(null);
  const away = (event: PointerEvent, start: Drag): [number, number] => [
    event.clientX - start.x,
    event.clientY - start.y,
  ];
  return {
    onPointerDown(event: PointerEvent) {
      const device = (event.target as Element).closest("[data-device]")?.getAttribute("data-device") ?? null;
      drag.current = {
        x: event.clientX,
        y: event.clientY,
        view: shown,
        device: mayMove ? device : null,
        moved: false,
      };
    },
    onPointerMove(event: PointerEvent) {
      const start = drag.current;
      if (!start) return;
      const [dx, dy] = away(event, start);
      if (!start.moved && Math.hypot(dx, dy) < SLACK) return;
      start.moved = true;
      event.currentTarget.setPointerCapture(event.pointerId);
      if (start.device !== null) {
        setView(start.view);
        move(start.device, dx / start.view.scale, dy / start.view.scale, false);
      } else setView({ ...start.view, x: start.view.x + dx, y: start.view.y + dy });
    },
    onPointerUp(event: PointerEvent) {
      const start = drag.current;
      drag.current = null;
      if (!start?.moved || start.device === null) return;
      const [dx, dy] = away(event, start);
      move(start.device, dx / start.view.scale, dy / start.view.scale, true);
    },
  };
}
