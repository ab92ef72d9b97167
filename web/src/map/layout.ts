import type { MapData } from "../api/client";
import { forced } from "./forced";
import type { Layout, Point } from "./geometry";
import { bySite } from "./siteLayout";
import { tiered } from "./tiers";

export type Moves = Record<string, readonly [number, number]>;

/**
 * Places for all devices: in the tiers of their sites, a network without sites in its own tiers where it has some,
 * else where its cables pull them. The same network gives the same picture: there is no chance in it.
 */
export function layOut(map: MapData): Layout {
  if (map.devices.some((device) => device.site !== null)) return bySite(map);
  return { devices: tiered(map) ?? forced(map), sites: [] };
}

/** A layout with devices moved by hand, each as far from its computed place as `moves` say. */
export function withMoves(layout: Layout, moves: Moves): Layout {
  if (Object.keys(moves).length === 0) return layout;
  const devices = new Map(
    [...layout.devices].map(([name, { x, y }]) => {
      const [right, down] = Object.hasOwn(moves, name) ? (moves[name] ?? [0, 0]) : [0, 0];
      return [name, { x: x + right, y: y + down }];
    }),
  );
  return { ...layout, devices };
}

/** A layout drawn wider or taller, so that it fills a pane of another shape. */
export function stretched(layout: Layout, across: number, down: number): Layout {
  const point = ({ x, y }: Point) => ({ x: x * across, y: y * down });
  return {
    devices: new Map([...layout.devices].map(([name, place]) => [name, point(place)])),
    sites: layout.sites.map(({ box, ...site }) => ({
      ...site,
      box: {
        left: box.left * across,
        right: box.right * across,
        top: box.top * down,
        bottom: box.bottom * down,
      },
    })),
  };
}
