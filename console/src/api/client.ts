import createClient, { type Middleware } from "openapi-fetch";
import createQueries from "openapi-react-query";
import type { components, paths } from "./schema";
import { signedOut } from "./who";

/** The types of the API, by the names of its document. */
export type Schemas = components["schemas"];
export type Mesh = Schemas["Mesh"];
export type Service = Schemas["Service"];
export type Gateway = Schemas["Gateway"];
export type Route = Schemas["Route"];
export type Link = Schemas["Link"];
export type Figures = Schemas["Figures"];
export type Published = Schemas["Published"];
export type RequestSpec = Schemas["RequestSpec"];
export type CallRequest = Schemas["CallRequest"];
export type CallResult = Schemas["CallResult"];
export type Explanation = Schemas["Explanation"];
export type Finding = Schemas["Finding"];
export type CheckReport = Schemas["CheckReport"];
export type Revision = Schemas["Revision"];
export type Draft = Schemas["Draft"];
export type Follow = Schemas["Follow"];
export type Proposal = Schemas["Proposal"];
export type Proxy = Schemas["Proxy"];
export type GuardState = Schemas["GuardState"];
export type VersionGuards = Schemas["VersionGuards"];
export type Drill = Schemas["Drill"];
export type ActivityEntry = Schemas["ActivityEntry"];
export type Timeline = Schemas["Timeline"];
export type Mark = Schemas["Mark"];
export type RequestRecord = Schemas["RequestRecord"];
export type FeedLine = Schemas["FeedLine"];
export type TraceSummary = Schemas["TraceSummary"];
export type TraceSpan = Schemas["TraceSpan"];
export type Effect = Schemas["Effect"];
export type EffectSummary = Schemas["EffectSummary"];
export type EffectRow = Schemas["EffectRow"];
export type EffectFigure = Schemas["EffectFigure"];
export type Trial = Schemas["Trial"];
export type ExpectationResult = Schemas["ExpectationResult"];
export type ForecastRequest = Schemas["ForecastRequest"];
export type Forecast = Schemas["Forecast"];
export type Release = Schemas["Release"];
export type ReleasePage = Schemas["ReleasePage"];
export type StageJudgement = Schemas["StageJudgement"];
export type JudgementSide = Schemas["JudgementSide"];
export type StandIn = Schemas["StandIn"];
export type RuleFile = Schemas["File"];
export type AccessMatrix = Schemas["AccessMatrix"];
export type AccessLink = Schemas["AccessLink"];
export type AccessSuggestion = Schemas["AccessSuggestion"];
export type Authority = Schemas["Authority"];
export type AccessToken = Schemas["AccessToken"];
export type Session = Schemas["Session"];
export type TimelineQuery = NonNullable<paths["/api/v1/timeline"]["get"]["parameters"]["query"]>;
export type RequestFilter = NonNullable<paths["/api/v1/requests"]["get"]["parameters"]["query"]>;

/** An error response of the service. */
export class ApiError extends Error {
  constructor(readonly problem: Schemas["Problem"]) {
    super(problem.detail);
  }
}

/** What went wrong, in words. */
export function words(e: unknown): string {
  if (e instanceof TypeError || (e instanceof DOMException && e.name === "TimeoutError")) return "The service does not respond.";
  return e instanceof Error ? e.message : String(e);
}

async function refuse(response: Response): Promise<never> {
  if (response.status === 401) signedOut();
  let problem: Schemas["Problem"];
  try {
    problem = (await response.json()) as Schemas["Problem"];
  } catch {
    throw new Error(`The service responded ${response.status}.`);
  }
  throw new ApiError(problem);
}

const errors: Middleware = {
  onResponse: async ({ response }) => {
    if (!response.ok) await refuse(response);
  },
};

/** How long the service may take to answer. A forecast is the longest. */
const longest = 70_000;

/** The API. A call that fails throws an ApiError, or the error of the connection. */
export const api = createClient<paths>({
  baseUrl: location.origin,
  fetch: (request) => fetch(request, { signal: AbortSignal.any([request.signal, AbortSignal.timeout(longest)]) }),
});
api.use(errors);

/** Reading with react-query: queries.useQuery("get", PATH, {params}, options). */
export const queries = createQueries(api);

/** The body of an answer; calls that fail throw. */
export async function take<T>(answer: Promise<{ data?: T }>): Promise<T> {
  return (await answer).data as T;
}

/** The condition that a change is based on a revision, or a draft on a version. */
export const basedOn = (number: number) => ({ "If-Match": `"${number}"` });

/** The draft of who is signed in; null: there is none. */
export async function readDraft(bundle: string): Promise<Draft | null> {
  try {
    return await take(api.GET("/api/v1/drafts/{bundle}", { params: { path: { bundle } } }));
  } catch (e) {
    if (e instanceof ApiError && e.problem.code === "not-found") return null;
    throw e;
  }
}

/** The URL of a report; empty parameters are left out. */
export function reportURL(path: string, query: Record<string, string | number | undefined> = {}): string {
  const params = new URLSearchParams();
  for (const [name, value] of Object.entries(query)) if (value !== undefined && value !== "") params.set(name, String(value));
  return `/api/v1${path}/report?${params.toString()}`;
}

/** Calls each with every line of a stream. */
async function lines(body: ReadableStream<Uint8Array<ArrayBuffer>> | null, each: (line: string) => void): Promise<void> {
  const reader = body?.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  while (reader) {
    const { done, value } = await reader.read();
    if (done) break;
    const whole = (rest + value).split("\n");
    rest = whole.pop() ?? "";
    whole.forEach(each);
  }
}

/** A call whose answer is a stream of lines: it may last. */
async function stream(path: string, init: RequestInit, each: (line: string) => void): Promise<void> {
  const response = await fetch(`/api/v1${path}`, init);
  if (!response.ok) await refuse(response);
  await lines(response.body, each);
}

/** Follows requests as they end, until the signal or the service ends it. */
export async function followRequests(filter: string, each: (line: FeedLine) => void, signal: AbortSignal): Promise<void> {
  await stream(`/requests?${filter}`, { signal }, (line) => each(JSON.parse(line) as FeedLine));
}

/** Sends requests; each is called with every interim result. */
export async function call(body: CallRequest, each: (result: CallResult) => void, signal: AbortSignal): Promise<void> {
  let final = false;
  const init = { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body), signal };
  await stream("/calls", init, (line) => {
    const result = JSON.parse(line) as CallResult;
    final ||= result.isFinal;
    each(result);
  });
  if (!final) throw new Error("The service ended the call early. Is it still running?");
}
