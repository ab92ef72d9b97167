import type { Network } from "../api/client";

export const ORDERS = ["name", "last asked", "devices", "errors", "newest revision"] as const;
export type Order = (typeof ORDERS)[number];

/** Networks whose name holds what was typed, in an order; of equals, by name. */
export function listed(networks: Network[], typed: string, order: Order): Network[] {
  const wanted = typed.trim().toLowerCase();
  const rank = (one: Network): number => {
    if (order === "last asked") return -time(one.asked_at);
    if (order === "devices") return -(one.latest?.device_count ?? 0);
    if (order === "errors") return -(one.latest?.error_count ?? -1);
    if (order === "newest revision") return -time(one.latest?.created_at);
    return 0;
  };
  return networks
    .filter((one) => one.name.toLowerCase().includes(wanted))
    .sort((a, b) => rank(a) - rank(b) || a.name.localeCompare(b.name));
}

function time(text: string | null | undefined): number {
  return text ? new Date(text).getTime() : 0;
}
