import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, unwrap } from "./client";

const COLLECTING = "/api/networks/{network_id}/collecting";
const LOOKS = 2_000;
/** Rounds begin by themselves: so often it is looked for another. */
const SELDOM = 60_000;

/** The inventories that are collected into a network, with their last rounds; looked at again while one goes on. */
export function useCollecting(networkId: string) {
  const queries = useQueryClient();
  const params = { path: { network_id: networkId } };
  const queryKey = ["collecting", networkId];
  const found = useQuery({
    queryKey,
    queryFn: () => unwrap(api.GET(COLLECTING, { params })),
    refetchInterval: ({ state }) =>
      state.data?.some(({ rounds }) => rounds[0]?.ended_at === null) ? LOOKS : SELDOM,
  });
  const now = useMutation({
    mutationFn: (inventory: string) => unwrap(api.POST(COLLECTING, { params, body: { inventory } })),
    // A worker begins it in a moment.
    onSuccess: () => setTimeout(() => queries.invalidateQueries({ queryKey }), LOOKS),
  });
  return { found, now };
}
