import {
  type UseQueryResult,
  useMutation,
  useQueries,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { useState } from "react";
import {
  type Answers,
  answerOf,
  asItIs,
  type InstanceKey,
  type Question,
  type RevisionKey,
  useInSteps,
  wordsOf,
} from "./answers";
import { api, unwrap } from "./client";
import type { components } from "./schema.gen";
import { multipart, type UploadContent } from "./uploads";

export type EventShown = components["schemas"]["EventShown"];
export type StripsHeld = components["schemas"]["StripsHeld"];
export type Availability = components["schemas"]["Availability"];
export type Outage = components["schemas"]["Outage"];
export type PrefixChanges = components["schemas"]["PrefixChanges"];
export type PathHealth = components["schemas"]["PathHealth"];
export type OnTheWay = components["schemas"]["OnTheWay"];
export type Measured = components["schemas"]["Measured"];
export type Unusual = components["schemas"]["Unusual"];
export type Usual = components["schemas"]["Usual"];
export type GaugeOverTime = components["schemas"]["GaugeOverTime"];
export type EventFile = components["schemas"]["EventFileAbout"];

const EVENTS = "/api/networks/{network_id}/events";
const HISTORY = "history";

const NOTHING_MEASURED: PathHealth = { on_the_way: [], delays: [], unusual: [], is_measured: false };

/** A part of a window, with the revision that stands for it. */
export type Part = { number: number; start: string; end: string };

/** The files of events of a network. */
export function useEventFiles(networkId: string) {
  return useQuery({
    queryKey: [HISTORY, networkId, "files"],
    queryFn: () => unwrap(api.GET(EVENTS, { params: { path: { network_id: networkId } } })),
  });
}

/** Sends a file of events: all that is shown of the past is asked anew. */
export function useAddEvents(networkId: string) {
  const refresh = useRefresh(networkId);
  return useMutation({
    mutationFn: (content: UploadContent) =>
      unwrap(api.POST(EVENTS, { params: { path: { network_id: networkId } }, ...multipart(content) })),
    onSuccess: refresh,
  });
}

export function useRemoveEvents(networkId: string) {
  const refresh = useRefresh(networkId);
  return useMutation({
    mutationFn: (id: number) =>
      unwrap(api.DELETE(`${EVENTS}/{file_id}`, { params: { path: { network_id: networkId, file_id: id } } })),
    onSuccess: refresh,
  });
}

function useRefresh(networkId: string) {
  const queries = useQueryClient();
  return () =>
    Promise.all([
      queries.invalidateQueries({ queryKey: [HISTORY, networkId] }),
      queries.invalidateQueries({
        predicate: ({ queryKey }) =>
          queryKey[0] === "answer" && (queryKey[2] as RevisionKey | undefined)?.moment !== undefined,
      }),
    ]);
}

/** One flow over a window, part by part, each part asked again until it is there; `soFar` says how far it is. */
export function useStrip(networkId: string, question: Question, parts: Part[]) {
  const [steps, setSteps] = useState<Record<string, Answers["strip"]>>({});
  const asked = ({ number, start, end }: Part) =>
    answerOf("strip", { networkId, number }, { ...wordsOf(question), start, end });
  const keyOf = (part: Part) => [HISTORY, networkId, ...asked(part).queryKey];
  const nameOf = (part: Part) => JSON.stringify(keyOf(part));
  const found = useQueries({
    combine: together,
    queries: parts.map((part) => ({
      queryKey: keyOf(part),
      staleTime: Number.POSITIVE_INFINITY,
      enabled: Boolean(question.from && question.to),
      queryFn: async ({ signal }: { signal: AbortSignal }) => {
        for (;;) {
          const next: Answers["strip"] = await asked(part).queryFn({ signal });
          if (next.held) return next.held;
          setSteps((before) => ({ ...before, [nameOf(part)]: next }));
        }
      },
    })),
  });
  const soFar = { done: 0, of: 0 };
  for (const step of Object.values(steps)) {
    soFar.done += step.done;
    soFar.of += step.of;
  }
  const begun = (part: Part): StripsHeld | undefined => {
    const step = steps[nameOf(part)];
    return step && { ...part, strips: step.begun, events: [], things: [], health: NOTHING_MEASURED };
  };
  if (!found.isPending) return { ...found, soFar };
  return { ...found, soFar, parts: found.parts.map((part, at) => part ?? begun(parts[at] as Part)) };
}

function together(found: UseQueryResult<StripsHeld>[]) {
  return {
    parts: found.map((one) => one.data),
    error: found.find((one) => one.error)?.error ?? null,
    isPending: found.some((one) => one.isLoading),
  };
}

/** What happened in a part of a window. */
export function useHappened(networkId: string, part: Part | undefined) {
  const { number, start, end } = part ?? { number: 0, start: "", end: "" };
  const one = answerOf("happened", { networkId, number }, { start, end });
  return useQuery({ ...one, queryKey: [HISTORY, networkId, ...one.queryKey], enabled: part !== undefined });
}

const MOST_FOUND = 6;
const LEAST_TYPED = 3;

/** Events that contain what is typed, the newest first. */
export function useEventsFound(networkId: string, typed: string, wanted: boolean): EventShown[] {
  const files = useEventFiles(networkId);
  const enabled = wanted && typed.length >= LEAST_TYPED && Boolean(files.data?.length);
  const one = answerOf("happened", { networkId, number: "latest" as never }, {});
  const happened = useQuery({ ...one, queryKey: [HISTORY, networkId, ...one.queryKey], enabled });
  if (!enabled) return [];
  const text = typed.toLowerCase();
  const found = happened.data?.events.filter((event) =>
    `${event.words} ${event.note}`.toLowerCase().includes(text),
  );
  return found?.slice(0, MOST_FOUND) ?? [];
}

/** What is otherwise at a moment than the revision says. */
export function useStateThen({ networkId, number, moment }: RevisionKey) {
  const one = answerOf("state", { networkId, number }, { moment: moment ?? "" });
  return useQuery({
    ...one,
    queryKey: [HISTORY, networkId, ...one.queryKey],
    enabled: moment !== undefined,
    placeholderData: (before) => before,
  });
}

/** One measure of one thing over a window. */
export function useGauge(
  key: RevisionKey,
  gauge: Pick<Measured, "what" | "at" | "measure"> | undefined,
  { from, to }: { from: number; to: number },
) {
  const { what, at, measure } = gauge ?? { what: "", at: "", measure: "" };
  const window = { start: new Date(from).toISOString(), end: new Date(to).toISOString() };
  const one = answerOf("measured", asItIs(key), { what, at, measure, ...window });
  return useQuery({
    ...one,
    queryKey: [HISTORY, key.networkId, ...one.queryKey],
    enabled: gauge !== undefined,
    placeholderData: (before) => before,
  });
}

/** What moved between two moments. */
export function useBetween(networkId: string, { number, start, end }: Part) {
  const one = answerOf("between", { networkId, number }, { start, end });
  return useQuery({ ...one, queryKey: [HISTORY, networkId, ...one.queryKey] });
}

/** A table's route for a prefix over time. */
export function useRouteOverTime(
  networkId: string,
  { device, vrf }: InstanceKey,
  prefix: string,
  { number, start, end }: Part,
) {
  const words = { device, ...(vrf ? { vrf } : {}), prefix, start, end };
  return useInSteps("route-over-time", { networkId, number }, words, true);
}

/** The same of all traffic. */
export function useBetweenHeld(networkId: string, { number, start, end }: Part, enabled: boolean) {
  return useInSteps("between-held", { networkId, number }, { start, end }, enabled);
}
