import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, unwrap } from "./client";

export type Question = { from: string; to: string; service: string; enter: string };
export type RevisionKey = { networkId: string; number: number };

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

export function useNetworks() {
  return useQuery({ queryKey: ["networks"], queryFn: () => unwrap(api.GET("/api/networks")) });
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
      unwrap(
        api.GET("/api/networks/{network_id}/revisions", { params: { path: { network_id: networkId } } }),
      ),
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

export type UploadContent = { file?: File; text?: string; name?: string; note?: string };

function formOf(content: UploadContent): FormData {
  const form = new FormData();
  for (const [key, value] of Object.entries(content)) if (value !== undefined) form.append(key, value);
  return form;
}

/** Multipart bodies are built here; the schema's type for them is the JSON form. */
function multipart(content: UploadContent) {
  return { body: content as never, bodySerializer: () => formOf(content) };
}

export function useCreateNetwork() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (content: UploadContent) => unwrap(api.POST("/api/networks", multipart(content))),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["networks"] }),
  });
}

export function useAddRevision(networkId: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (content: UploadContent) =>
      unwrap(
        api.POST("/api/networks/{network_id}/revisions", {
          params: { path: { network_id: networkId } },
          ...multipart(content),
        }),
      ),
    onSuccess: () =>
      Promise.all([
        queries.invalidateQueries({ queryKey: ["network", networkId] }),
        queries.invalidateQueries({ queryKey: ["revisions", networkId] }),
        queries.invalidateQueries({ queryKey: ["networks"] }),
      ]),
  });
}

export function useDeleteNetwork() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (networkId: string) =>
      unwrap(api.DELETE("/api/networks/{network_id}", { params: { path: { network_id: networkId } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["networks"] }),
  });
}

function pathOf({ networkId, number }: RevisionKey) {
  return { network_id: networkId, number };
}

/** A revision never changes: what was computed from it stays right for as long as the page is open. */
const FOREVER = { staleTime: Number.POSITIVE_INFINITY };

export function useRevision(key: RevisionKey) {
  return useQuery({
    queryKey: ["revision", key],
    ...FOREVER,
    queryFn: () =>
      unwrap(api.GET("/api/networks/{network_id}/revisions/{number}", { params: { path: pathOf(key) } })),
  });
}

export function useMap(key: RevisionKey) {
  return useQuery({
    queryKey: ["map", key],
    ...FOREVER,
    queryFn: () =>
      unwrap(api.GET("/api/networks/{network_id}/revisions/{number}/map", { params: { path: pathOf(key) } })),
  });
}

export function useWalk(key: RevisionKey, question: Question) {
  const query = {
    from: question.from,
    to: question.to,
    service: question.service || "icmp",
    ...(question.enter ? { enter: question.enter } : {}),
  };
  return useQuery({
    queryKey: ["walk", key, query],
    ...FOREVER,
    enabled: Boolean(question.from && question.to),
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      unwrap(
        api.GET("/api/networks/{network_id}/revisions/{number}/walk", {
          params: { path: pathOf(key), query },
          signal,
        }),
      ),
  });
}

export function useFindings(key: RevisionKey) {
  return useQuery({
    queryKey: ["findings", key],
    ...FOREVER,
    queryFn: () =>
      unwrap(
        api.GET("/api/networks/{network_id}/revisions/{number}/findings", { params: { path: pathOf(key) } }),
      ),
  });
}

export function useWords(key: RevisionKey, typed: string, enabled: boolean) {
  return useQuery({
    queryKey: ["words", key, typed],
    ...FOREVER,
    enabled,
    placeholderData: keepPreviousData,
    queryFn: () =>
      unwrap(
        api.GET("/api/networks/{network_id}/revisions/{number}/words", {
          params: { path: pathOf(key), query: { q: typed } },
        }),
      ),
  });
}

export function useServices(key: RevisionKey) {
  return useQuery({
    queryKey: ["services", key],
    ...FOREVER,
    queryFn: () =>
      unwrap(
        api.GET("/api/networks/{network_id}/revisions/{number}/services", { params: { path: pathOf(key) } }),
      ),
  });
}

/** A routing instance of a device; the VRF is '' for the default one. */
export type InstanceKey = { device: string; vrf: string };

function instanceQuery({ device, vrf }: InstanceKey) {
  return { device, ...(vrf ? { vrf } : {}) };
}

export function useTable(key: RevisionKey, instance: InstanceKey) {
  return useQuery({
    queryKey: ["table", key, instance],
    ...FOREVER,
    enabled: Boolean(instance.device),
    queryFn: () =>
      unwrap(
        api.GET("/api/networks/{network_id}/revisions/{number}/table", {
          params: { path: pathOf(key), query: instanceQuery(instance) },
        }),
      ),
  });
}

export function useInstances(key: RevisionKey) {
  return useQuery({
    queryKey: ["instances", key],
    ...FOREVER,
    queryFn: () =>
      unwrap(
        api.GET("/api/networks/{network_id}/revisions/{number}/instances", { params: { path: pathOf(key) } }),
      ),
  });
}

export function useDrift(key: RevisionKey, instance: InstanceKey) {
  return useQuery({
    queryKey: ["drift", key, instance],
    ...FOREVER,
    enabled: Boolean(instance.device),
    queryFn: () =>
      unwrap(
        api.GET("/api/networks/{network_id}/revisions/{number}/drift", {
          params: { path: pathOf(key), query: instanceQuery(instance) },
        }),
      ),
  });
}

export function useForest(key: RevisionKey, prefix: string) {
  return useQuery({
    queryKey: ["forest", key, prefix],
    ...FOREVER,
    enabled: Boolean(prefix),
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      unwrap(
        api.GET("/api/networks/{network_id}/revisions/{number}/forest", {
          params: { path: pathOf(key), query: { prefix } },
          signal,
        }),
      ),
  });
}

export function useContest(key: RevisionKey, instance: InstanceKey, prefix: string) {
  return useQuery({
    queryKey: ["contest", key, instance, prefix],
    ...FOREVER,
    enabled: Boolean(instance.device && prefix),
    queryFn: ({ signal }) =>
      unwrap(
        api.GET("/api/networks/{network_id}/revisions/{number}/contest", {
          params: { path: pathOf(key), query: { ...instanceQuery(instance), prefix } },
          signal,
        }),
      ),
  });
}

export function useTipping(key: RevisionKey, instance: InstanceKey, prefix: string, enabled: boolean) {
  return useQuery({
    queryKey: ["tipping", key, instance, prefix],
    ...FOREVER,
    enabled: enabled && Boolean(instance.device && prefix),
    queryFn: ({ signal }) =>
      unwrap(
        api.GET("/api/networks/{network_id}/revisions/{number}/tipping", {
          params: { path: pathOf(key), query: { ...instanceQuery(instance), prefix } },
          signal,
        }),
      ),
  });
}

export function useSources(key: RevisionKey) {
  return useQuery({
    queryKey: ["sources", key],
    ...FOREVER,
    queryFn: () =>
      unwrap(
        api.GET("/api/networks/{network_id}/revisions/{number}/sources", { params: { path: pathOf(key) } }),
      ),
  });
}

export function useSource(key: RevisionKey, file: string | undefined) {
  return useQuery({
    queryKey: ["source", key, file],
    ...FOREVER,
    enabled: Boolean(file),
    queryFn: () =>
      unwrap(
        api.GET("/api/networks/{network_id}/revisions/{number}/source", {
          params: { path: pathOf(key), query: { file: file ?? "" } },
        }),
      ),
  });
}

export function usePolicies(key: RevisionKey) {
  return useQuery({
    queryKey: ["policies", key],
    ...FOREVER,
    queryFn: () =>
      unwrap(
        api.GET("/api/networks/{network_id}/revisions/{number}/policies", { params: { path: pathOf(key) } }),
      ),
  });
}

export function usePolicy(key: RevisionKey, device: string, policy: string) {
  return useQuery({
    queryKey: ["policy", key, device, policy],
    ...FOREVER,
    enabled: Boolean(device && policy),
    queryFn: () =>
      unwrap(
        api.GET("/api/networks/{network_id}/revisions/{number}/policy", {
          params: { path: pathOf(key), query: { device, policy } },
        }),
      ),
  });
}
