import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";

export type Schemas = components["schemas"];
export type Network = Schemas["Network"];
export type Revision = Schemas["Revision"];
export type Walk = Schemas["Walk"];
export type Strand = Schemas["Strand"];
export type Stop = Schemas["Stop"];
export type Branch = Schemas["Branch"];
export type Check = Schemas["Check"];
export type Cause = Schemas["Cause"];
export type Place = Schemas["Place"];
export type MapData = Schemas["Map"];
export type MapMove = Schemas["Move"];
export type Finding = Schemas["Finding"];
export type Word = Schemas["Word"];
export type LoadError = Schemas["LoadError"];
export type InputProblem = Schemas["InputError"];
export type TableRow = Schemas["TableRow"];
export type NextHop = Schemas["NextHop"];
export type Contest = Schemas["Contest"];
export type Candidate = Schemas["Candidate"];
export type TippingPoint = Schemas["TippingPoint"];
export type Outcome = Schemas["Outcome"];
export type PolicyName = Schemas["Policy"];
export type PolicyReport = Schemas["PolicyReport"];
export type PolicyRoute = Schemas["PolicyRoute"];
export type PolicyUse = Schemas["PolicyUse"];
export type Forest = Schemas["Forest"];
export type ForestRow = Schemas["ForestRow"];
export type Asked = Schemas["Asked"];
export type RouteChange = Schemas["RouteChange"];
export type ModelChange = Schemas["ModelChange"];
export type FlowChange = Schemas["FlowChange"];
export type Statement = Schemas["Statement"];
export type Difference = Schemas["Difference"];
export type Trial = Schemas["Trial"];
export type TriedChange = Schemas["TriedChange"];
export type HeldGroup = Schemas["HeldGroup"];
export type ExpectationHeld = Schemas["ExpectationHeld"];
export type FailureOutcome = Schemas["FailureOutcome"];
export type Effect = HeldGroup["effect"];
export type Change = Trial["changes"][number];

/** An answer of the API that is no success: its message, and the errors of a load where there are any. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly problems: InputProblem[] = [],
  ) {
    super(message);
  }
}

const client = createClient<paths>({ baseUrl: "/" });

client.use({
  onRequest({ request }) {
    const token = /(?:^|; )csrftoken=([^;]+)/.exec(document.cookie)?.[1];
    if (token && request.method !== "GET") request.headers.set("X-CSRFToken", token);
    return request;
  },
});

export const api = client;

/** The data of an answer, or an `ApiError` thrown. */
export async function unwrap<T>(
  answer: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  let settled: { data?: T; error?: unknown; response: Response };
  try {
    settled = await answer;
  } catch {
    throw new ApiError(0, "The server cannot be reached.");
  }
  const { data, error, response } = settled;
  if (response.ok) return data as T;
  const body = error as Partial<LoadError> & Record<string, unknown>;
  throw new ApiError(response.status, messageOf(body, response), body?.errors ?? []);
}

function messageOf(body: Record<string, unknown> | undefined, response: Response): string {
  if (typeof body?.detail === "string") return body.detail;
  if (Array.isArray(body)) return body.join(" ");
  const parts = Object.entries(body ?? {}).map(([key, value]) => `${key}: ${[value].flat().join(" ")}`);
  return parts.join("; ") || `The server answered ${response.status}.`;
}
