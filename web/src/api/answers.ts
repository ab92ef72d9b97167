import {
  keepPreviousData,
  type QueryClient,
  useIsFetching,
  useQueries,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, unwrap } from "./client";
import type { paths } from "./schema.gen";

export type Question = { from: string; to: string; service: string; enter: string };
/** A revision, as it is or with the changes of a trial: the version tells what they are at the moment,
 * `edits` whether whole files are among them. With a `moment`, as it was then by what happened. */
export type RevisionKey = {
  networkId: string;
  number: number;
  moment?: string | undefined;
  trial?: { number: number; version: number; edits: boolean } | undefined;
};

/** The revision as it is, or was at its moment, without the changes of a trial. */
export function asItIs({ networkId, number, moment }: RevisionKey): RevisionKey {
  return { networkId, number, moment };
}

/** Another revision of the same network. */
export function ofNumber({ networkId }: RevisionKey, number: number): RevisionKey {
  return { networkId, number };
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

export type Answers = {
  [Path in keyof paths as Path extends `${typeof REVISION}/${infer Name}`
    ? Name
    : never]: paths[Path] extends {
    get: { responses: { 200: { content: { "application/json": infer Answer } } } };
  }
    ? Answer
    : never;
};

/** One question to a revision: its name in the API, and its words. */
export function answerOf<Name extends keyof Answers>(
  name: Name,
  { networkId, number, moment, trial }: RevisionKey,
  words: Record<string, string>,
) {
  return {
    queryKey: ["answer", name, { networkId, number, moment, trial }, words],
    ...FOREVER,
    queryFn: ({ signal }: { signal: AbortSignal }) => {
      const asOf: Record<string, string> = moment ? { as_of: moment } : {};
      const tried: Record<string, string> = trial ? { trial: String(trial.number) } : {};
      const query = { ...words, ...asOf, ...tried };
      const params = { path: { network_id: networkId, number }, query };
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

/** What answers a person waits for. */
const WAITED_FOR = ["walk", "contest", "forest", "table", "tried"];

/** Whether what a person waits for has been answered for a while since a trial, or the moment, was changed last. */
export function useSettled({ trial, moment }: RevisionKey): boolean {
  const version = `${trial?.number} ${trial?.version} ${moment}`;
  const asking = useIsFetching({ predicate: ({ queryKey }) => WAITED_FOR.includes(String(queryKey[1])) });
  const [settled, setSettled] = useState("");
  useEffect(() => {
    if (settled === version || asking) return;
    const soon = setTimeout(() => setSettled(version), 60);
    return () => clearTimeout(soon);
  }, [settled, version, asking]);
  return (!trial && !moment) || settled === version;
}

/** The map; of a trial, that of the network as it is until there is time for its own. */
export function useMap(key: RevisionKey) {
  const settled = useSettled(key);
  const asIs = useAnswer("map", asItIs(key));
  const tried = useAnswer("map", key, {}, { enabled: key.trial !== undefined && settled });
  return key.trial && tried.data ? tried : asIs;
}

export function useUnderstanding(key: RevisionKey) {
  return useAnswer("understanding", key);
}

export function wordsOf({ from, to, service, enter }: Question): Record<string, string> {
  return { from, to, service: service || "icmp", ...(enter ? { enter } : {}) };
}

/** The answers to several questions, each of its own revision. */
export function useWalks(asked: { key: RevisionKey; question: Question }[]) {
  return useQueries({
    queries: asked.map(({ key, question }) => answerOf("walk", key, wordsOf(question))),
  });
}

export function useWalk(key: RevisionKey, question: Question, wanted = true) {
  const enabled = wanted && Boolean(question.from && question.to);
  const walk = useAnswer("walk", key, wordsOf(question), { enabled, keep: true });
  const queries = useQueryClient();
  // The server has kept the answer: the list of what was asked before is longer by it.
  useEffect(() => {
    if (walk.dataUpdatedAt) void queries.invalidateQueries({ queryKey: ["asked", key.networkId] });
  }, [walk.dataUpdatedAt, queries, key.networkId]);
  return walk;
}

/** Asks a walk that is in view of a trial as well, where it is of that trial before or of no other. */
export function prefetchWalkWith(
  queries: QueryClient,
  queryKey: readonly unknown[],
  trial: NonNullable<RevisionKey["trial"]>,
) {
  const [, , key, words] = queryKey as ["answer", "walk", RevisionKey, Record<string, string>];
  const isOfTrial = key.trial ? key.trial.number === trial.number : trial.version === 1;
  return isOfTrial ? queries.prefetchQuery(answerOf("walk", { ...key, trial }, words)) : Promise.resolve();
}

/** What is offered against what stops a flow, tried and in order. */
export function useRemedies(key: RevisionKey, question: Question, wanted: boolean) {
  return useAnswer("remedies", key, wordsOf(question), { enabled: wanted });
}

/** What would lead a flow by a device, or past it. */
export function useWantedWay(
  key: RevisionKey,
  question: Question,
  wanted: { passing?: string; avoiding?: string } | null,
) {
  return useAnswer("wanted-way", key, { ...wordsOf(question), ...wanted }, { enabled: wanted !== null });
}

export function useFindings(key: RevisionKey, enabled = true) {
  const settled = useSettled(key);
  return useAnswer("findings", key, {}, { enabled: enabled && settled, keep: true });
}

/** What may be meant by what is typed: a trial gives nothing another name. */
export function useWords(key: RevisionKey, typed: string, enabled: boolean) {
  return useAnswer("words", asItIs(key), { q: typed }, { enabled, keep: true });
}

/** Whatever may be meant by what is typed. */
export function useFind(key: RevisionKey, typed: string, enabled: boolean) {
  return useAnswer("find", asItIs(key), { q: typed }, { enabled: enabled && typed !== "", keep: true });
}

export function useServices(key: RevisionKey) {
  return useAnswer("services", asItIs(key));
}

/** A routing instance of a device; the VRF is '' for the default one. */
export type InstanceKey = { device: string; vrf: string };

function instanceWords({ device, vrf }: InstanceKey) {
  return { device, ...(vrf ? { vrf } : {}) };
}

/** So many routes of a table are asked for at once; of a longer one, a part by prefix. */
export const MOST_ROUTES = 20_000;

/** A table's routes, one more than are shown where there are more; `within` a prefix, where one is given. */
export function useTable(key: RevisionKey, instance: InstanceKey, within = "", enabled = true) {
  const words = { ...instanceWords(instance), most: String(MOST_ROUTES + 1), ...(within ? { within } : {}) };
  return useAnswer("table", key, words, { enabled: enabled && Boolean(instance.device) });
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
  return useAnswer(
    "comparison",
    key,
    { since: String(since) },
    { enabled: since !== key.number || key.trial !== undefined },
  );
}

/** A source file's text; of a dump its records around a line. */
export function useSource(key: RevisionKey, file = "", line = 1) {
  const around = String(isDump(file) ? line : 1);
  return useAnswer("source", ofFile(key, file), { file, line: around }, { enabled: Boolean(file) });
}

/** Whether a file is a dump of a BGP table, shown record by record. */
export function isDump(file: string) {
  return /\.mrt(\.(gz|bz2|xz))?$/.test(file);
}

/** Where a file stands: what a trial changed in it has a file of its own. */
function ofFile(key: RevisionKey, file: string): RevisionKey {
  return file.startsWith("trial/") || key.trial?.edits ? key : asItIs(key);
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

/** What became of each change of a trial. */
export function useTried(key: RevisionKey) {
  return useAnswer("tried", key, {}, { enabled: key.trial !== undefined, keep: true });
}

/** The routes and flows that a trial moves. */
export function useMoved(key: RevisionKey) {
  const settled = useSettled(key);
  return useAnswer("moved", key, {}, { enabled: key.trial !== undefined && settled, keep: true });
}

/** What of all traffic a trial changes. */
export function useHeld(key: RevisionKey, wanted: boolean) {
  const settled = useSettled(key);
  return useInSteps("held", key, {}, key.trial !== undefined && settled && wanted);
}

/** What is expected of the network, held as it is: failures are a job's (`jobs.ts`). */
export function useExpectations(key: RevisionKey) {
  const settled = useSettled(key);
  return useInSteps("expectations", key, { failures: "none" }, settled);
}

/** In which order to drain and shut things, and what of what is expected that breaks. */
export function useMaintenance(key: RevisionKey, shut: string) {
  return useInSteps("maintenance", key, { shut }, shut !== "");
}

/** What made an expectation fail that held in an earlier revision. */
export function useTurned(key: RevisionKey, since: number, expectation: string) {
  return useAnswer("turned", key, { since: String(since), expectation });
}

/** What of all that is expected hangs on a device. */
export function useEndangered(key: RevisionKey, device: string, wanted: boolean) {
  return useAnswer("endangered", key, { device }, { enabled: wanted });
}

/** What an expectation leans on. */
export function useLeaning(key: RevisionKey, expectation: string) {
  return useInSteps("leaning", key, { expectation }, true);
}

/** What takes several calls: asked again until it is there, with how far it is. */
export function useInSteps<
  Name extends "held" | "between-held" | "route-over-time" | "expectations" | "maintenance" | "leaning",
>(name: Name, key: RevisionKey, words: Record<string, string>, enabled: boolean) {
  type Held = NonNullable<Answers[Name]["held"]>;
  const queries = useQueryClient();
  const [step, setStep] = useState<Answers[Name] | null>(null);
  const one = answerOf(name, key, words);
  const queryKey = ["held", ...one.queryKey];
  const query = useQuery<Held>({
    queryKey,
    ...FOREVER,
    enabled,
    queryFn: async ({ signal }) => {
      for (;;) {
        const next = await one.queryFn({ signal });
        if (next.held) return next.held as Held;
        setStep(next);
      }
    },
  });
  const soFar = { done: step?.done ?? 0, of: step?.of ?? 0 };
  return { ...query, step, soFar, stop: () => queries.cancelQueries({ queryKey }) };
}

export function useDifference(key: RevisionKey, enabled: boolean) {
  return useAnswer("difference", key, {}, { enabled: enabled && key.trial !== undefined });
}

/** What a trial changes on each device, as devices take it. */
export function usePatches(key: RevisionKey) {
  return useAnswer("patches", key, {}, { enabled: key.trial !== undefined });
}

export function useDeviceText(key: RevisionKey, device: string) {
  return useAnswer("device-text", key, { device }, { enabled: Boolean(device) });
}
