import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type MapMove, unwrap } from "./client";
import { isLarge, multipart, readByWorker, type UploadContent, useUploadsChanged } from "./uploads";

export function useSession() {
  return useQuery({
    queryKey: ["session"],
    queryFn: () => unwrap(api.GET("/api/session")),
  });
}

export function useSignIn() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: { username: string; password: string }) => unwrap(api.POST("/api/session", { body })),
    onSuccess: () => queries.invalidateQueries(),
  });
}

export function useSignOut() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () => unwrap(api.DELETE("/api/session")),
    onSuccess: () => {
      queries.clear();
      window.location.assign("/");
    },
  });
}

const MOST_PAGES = 100;

/** Everything of a list that the API gives page by page. */
async function everyPage<T>(
  ask: (page: number) => Promise<{ results: T[]; next: string | null }>,
): Promise<T[]> {
  const found: T[] = [];
  for (let page = 1; page <= MOST_PAGES; page++) {
    const { results, next } = await ask(page);
    found.push(...results);
    if (!next) break;
  }
  return found;
}

export function useNetworks() {
  return useQuery({
    queryKey: ["networks"],
    queryFn: () => everyPage((page) => unwrap(api.GET("/api/networks", { params: { query: { page } } }))),
  });
}

export function useNetwork(networkId: string) {
  return useQuery({
    queryKey: ["network", networkId],
    queryFn: () =>
      unwrap(api.GET("/api/networks/{network_id}", { params: { path: { network_id: networkId } } })),
  });
}

export function useRevisions(networkId: string) {
  return useQuery({
    queryKey: ["revisions", networkId],
    queryFn: () =>
      everyPage((page) =>
        unwrap(
          api.GET("/api/networks/{network_id}/revisions", {
            params: { path: { network_id: networkId }, query: { page } },
          }),
        ),
      ),
  });
}

export function useMapMoves(networkId: string) {
  return useQuery({
    queryKey: ["map moves", networkId],
    queryFn: () =>
      unwrap(
        api.GET("/api/networks/{network_id}/map-moves", { params: { path: { network_id: networkId } } }),
      ),
  });
}

/** Moves a device on the map, seen at once and taken back where it cannot be kept. */
export function useMoveDevice(networkId: string) {
  const queries = useQueryClient();
  const queryKey = ["map moves", networkId];
  return useMutation({
    mutationFn: (body: MapMove) =>
      unwrap(
        api.PUT("/api/networks/{network_id}/map-moves", {
          params: { path: { network_id: networkId } },
          body,
        }),
      ),
    onMutate: (move) =>
      queries.setQueryData<MapMove[]>(queryKey, (before = []) => [
        ...before.filter((one) => one.device !== move.device),
        move,
      ]),
    onError: () => queries.invalidateQueries({ queryKey }),
  });
}

export function usePutBack(networkId: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () =>
      unwrap(
        api.DELETE("/api/networks/{network_id}/map-moves", { params: { path: { network_id: networkId } } }),
      ),
    onSuccess: () => queries.setQueryData(["map moves", networkId], []),
  });
}

export function useMembers(networkId: string) {
  return useQuery({
    queryKey: ["members", networkId],
    queryFn: () =>
      unwrap(api.GET("/api/networks/{network_id}/members", { params: { path: { network_id: networkId } } })),
  });
}

export type Role = "reader" | "editor" | "owner";

export function useSetRole(networkId: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: { username: string; role: Role }) =>
      unwrap(
        api.PUT("/api/networks/{network_id}/members", { params: { path: { network_id: networkId } }, body }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["members", networkId] }),
  });
}

export function useRemoveMember(networkId: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (username: string) =>
      unwrap(
        api.DELETE("/api/networks/{network_id}/members/{username}", {
          params: { path: { network_id: networkId, username } },
        }),
      ),
    // Not waited for: a member who left may not read the list again.
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["members", networkId] });
      void queries.invalidateQueries({ queryKey: ["networks"] });
    },
  });
}

/** What one asked of a network before, starred first. */
export function useAsked(networkId: string) {
  return useQuery({
    queryKey: ["asked", networkId],
    queryFn: () =>
      unwrap(api.GET("/api/networks/{network_id}/asked", { params: { path: { network_id: networkId } } })),
  });
}

const ASKED = "/api/networks/{network_id}/asked/{asked_id}";

export function useStar(networkId: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ id, starred }: { id: number; starred: boolean }) =>
      unwrap(
        api.PUT(ASKED, {
          params: { path: { network_id: networkId, asked_id: id } },
          body: { starred },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["asked", networkId] }),
  });
}

export function useForget(networkId: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (id: number) =>
      unwrap(api.DELETE(ASKED, { params: { path: { network_id: networkId, asked_id: id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["asked", networkId] }),
  });
}

export function useTokens() {
  return useQuery({ queryKey: ["tokens"], queryFn: () => unwrap(api.GET("/api/tokens")) });
}

export function useMakeToken() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: { name: string; days: number | null }) => unwrap(api.POST("/api/tokens", { body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["tokens"] }),
  });
}

export function useTakeBackToken() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (id: number) =>
      unwrap(api.DELETE("/api/tokens/{token_id}", { params: { path: { token_id: id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["tokens"] }),
  });
}

/** A new network of an upload: its identifier. */
export function useCreateNetwork() {
  const changed = useUploadsChanged();
  return useNetworkChange(async (content: UploadContent): Promise<string> => {
    if (isLarge(content)) return (await readByWorker(content, changed)).network ?? "";
    return (await unwrap(api.POST("/api/networks", multipart(content)))).id;
  });
}

export function useAddRevision(networkId: string) {
  const queries = useQueryClient();
  const changed = useUploadsChanged();
  return useMutation({
    mutationFn: async (content: UploadContent): Promise<void> => {
      if (isLarge(content)) await readByWorker({ ...content, network: networkId }, changed);
      else
        await unwrap(
          api.POST("/api/networks/{network_id}/revisions", {
            params: { path: { network_id: networkId } },
            ...multipart(content),
          }),
        );
    },
    onSuccess: () =>
      Promise.all([
        queries.invalidateQueries({ queryKey: ["network", networkId] }),
        queries.invalidateQueries({ queryKey: ["revisions", networkId] }),
        queries.invalidateQueries({ queryKey: ["asked", networkId] }),
        queries.invalidateQueries({ queryKey: ["networks"] }),
      ]),
  });
}

/** A change of which networks there are: the lists are asked for anew after it. */
function useNetworkChange<Of, Made>(mutationFn: (of: Of) => Promise<Made>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn,
    onSuccess: () =>
      Promise.all(["networks", "deleted"].map((list) => queries.invalidateQueries({ queryKey: [list] }))),
  });
}

const DELETED = "/api/deleted-networks/{network_id}";

export const useDeleteNetwork = () =>
  useNetworkChange((network_id: string) =>
    unwrap(api.DELETE("/api/networks/{network_id}", { params: { path: { network_id } } })),
  );

export const useTakeBack = () =>
  useNetworkChange((network_id: string) => unwrap(api.POST(DELETED, { params: { path: { network_id } } })));

export const useDeleteForGood = () =>
  useNetworkChange((network_id: string) => unwrap(api.DELETE(DELETED, { params: { path: { network_id } } })));

export const useBeginWithExample = () =>
  useNetworkChange((_: undefined) => unwrap(api.POST("/api/networks/example")));

export function useDeletedNetworks() {
  return useQuery({
    queryKey: ["deleted"],
    queryFn: () => unwrap(api.GET("/api/deleted-networks")),
  });
}
