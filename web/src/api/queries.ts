import {
  keepPreviousData,
  useIsFetching,
  useMutation,
  useQueries,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, type MapMove, unwrap } from "./client";
import type { paths } from "./schema.gen";

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

export const useCreateNetwork = () =>
  useNetworkChange((content: UploadContent) => unwrap(api.POST("/api/networks", multipart(content))));

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

/** A revision never changes: what was computed from it stays right for as long as the page is open. */
const FOREVER = { staleTime: Number.POSITIVE_INFINITY };
const REVISION = "/api/networks/{network_id}/revisions/{number}";

export function useRevision({ networkId, number }: RevisionKey) {
  return useQuery({
    queryKey: ["revision", { networkId, number }],
    ...FOREVER,
    queryFn: () => unwrap(api.GET(REVISION, { params: { path: { network_id: networkId, number } } })),
  });
}

type Answers = {
  [Path in keyof paths as Path extends `${typeof REVISION}/${infer Name}`
    ? Name
    : never]: paths[Path] extends {
    get: { responses: { 200: { content: { "application/json": infer Answer } } } };
  }
    ? Answer
    : never;
};

/** One question to a revision: its name in the API, and its words. */
function answerOf<Name extends keyof Answers>(
  name: Name,
  { networkId, number }: RevisionKey,
  words: Record<string, string>,
) {
  return {
    queryKey: ["answer", name, { networkId, number }, words],
    ...FOREVER,
    queryFn: ({ signal }: { signal: AbortSignal }) => {
      const params = { path: { network_id: networkId, number }, query: words };
      // The schema's types for each question meet in `Answers`; here it is any of them.
      return unwrap(api.GET(`${REVISION}/${name}` as never, { params, signal } as never)) as Promise<
        Answers[Name]
      >;
    },
  };
}

/** The answer to a question, asked once all of its words are there. */
function useAnswer<Name extends keyof Answers>(
  name: Name,
  key: RevisionKey,
  words: Record<string, string> = {},
  { enabled = true, keep = false } = {},
) {
  return useQuery<Answers[Name]>({
    ...answerOf(name, key, words),
    enabled,
    ...(keep ? { placeholderData: keepPreviousData } : {}),
  });
}

/** Whether nothing that a person waits for has been under way for a moment: then there is time for the rest. */
export function useQuiet(): boolean {
  const answering = useIsFetching({ predicate: (query) => query.queryKey[1] !== "findings" });
  const [quiet, setQuiet] = useState(false);
  useEffect(() => {
    if (quiet || answering) return;
    const soon = setTimeout(() => setQuiet(true), 250);
    return () => clearTimeout(soon);
  }, [quiet, answering]);
  return quiet;
}

export function useMap(key: RevisionKey) {
  return useAnswer("map", key);
}

export function useUnderstanding(key: RevisionKey) {
  return useAnswer("understanding", key);
}

function wordsOf({ from, to, service, enter }: Question): Record<string, string> {
  return { from, to, service: service || "icmp", ...(enter ? { enter } : {}) };
}

/** The answers to several questions, each of its own revision. */
export function useWalks(asked: { key: RevisionKey; question: Question }[]) {
  return useQueries({
    queries: asked.map(({ key, question }) => answerOf("walk", key, wordsOf(question))),
  });
}

export function useWalk(key: RevisionKey, question: Question) {
  const enabled = Boolean(question.from && question.to);
  const walk = useAnswer("walk", key, wordsOf(question), { enabled, keep: true });
  const queries = useQueryClient();
  // The server has kept the answer: the list of what was asked before is longer by it.
  useEffect(() => {
    if (walk.dataUpdatedAt) void queries.invalidateQueries({ queryKey: ["asked", key.networkId] });
  }, [walk.dataUpdatedAt, queries, key.networkId]);
  return walk;
}

export function useFindings(key: RevisionKey, enabled = true) {
  return useAnswer("findings", key, {}, { enabled });
}

export function useWords(key: RevisionKey, typed: string, enabled: boolean) {
  return useAnswer("words", key, { q: typed }, { enabled, keep: true });
}

export function useServices(key: RevisionKey) {
  return useAnswer("services", key);
}

/** A routing instance of a device; the VRF is '' for the default one. */
export type InstanceKey = { device: string; vrf: string };

function instanceWords({ device, vrf }: InstanceKey) {
  return { device, ...(vrf ? { vrf } : {}) };
}

export function useTable(key: RevisionKey, instance: InstanceKey) {
  return useAnswer("table", key, instanceWords(instance), { enabled: Boolean(instance.device) });
}

export function useInstances(key: RevisionKey) {
  return useAnswer("instances", key);
}

export function useDrift(key: RevisionKey, instance: InstanceKey) {
  return useAnswer("drift", key, instanceWords(instance), { enabled: Boolean(instance.device) });
}

export function useForest(key: RevisionKey, prefix: string) {
  return useAnswer("forest", key, { prefix }, { enabled: Boolean(prefix), keep: true });
}

export function useContest(key: RevisionKey, instance: InstanceKey, prefix: string) {
  const words = { ...instanceWords(instance), prefix };
  return useAnswer("contest", key, words, { enabled: Boolean(instance.device && prefix) });
}

export function useTipping(key: RevisionKey, instance: InstanceKey, prefix: string, enabled: boolean) {
  const words = { ...instanceWords(instance), prefix };
  return useAnswer("tipping", key, words, { enabled: enabled && Boolean(instance.device && prefix) });
}

export function useSources(key: RevisionKey) {
  return useAnswer("sources", key);
}

/** What differs from an earlier revision. */
export function useComparison(key: RevisionKey, since: number) {
  return useAnswer("comparison", key, { since: String(since) }, { enabled: since !== key.number });
}

export function useSource(key: RevisionKey, file = "") {
  return useAnswer("source", key, { file }, { enabled: Boolean(file) });
}

export function useOutline(key: RevisionKey, file = "") {
  return useAnswer("outline", key, { file }, { enabled: Boolean(file) });
}

/** What stands in a part of a line and what it does. */
export function useStatements(
  key: RevisionKey,
  file: string,
  span: { line: number; column: number; end: number },
) {
  const { line, column, end } = span;
  const words = { file, line: String(line), column: String(column), end: String(end) };
  return useAnswer("statements", key, words, { enabled: Boolean(file && line), keep: true });
}

export function usePolicies(key: RevisionKey) {
  return useAnswer("policies", key);
}

export function usePolicy(key: RevisionKey, device: string, policy: string) {
  return useAnswer("policy", key, { device, policy }, { enabled: Boolean(device && policy) });
}
