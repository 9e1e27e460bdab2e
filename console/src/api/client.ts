import type { components } from "./schema";

type Schemas = components["schemas"];
export type Mesh = Schemas["Mesh"];
export type Service = Schemas["Service"];
export type Version = Schemas["Version"];
export type Gateway = Schemas["Gateway"];
export type Route = Schemas["Route"];
export type Link = Schemas["Link"];
export type Figures = Schemas["Figures"];
export type Published = Schemas["Published"];
export type SplitRequest = Schemas["SplitRequest"];
export type RequestSpec = Schemas["RequestSpec"];
export type CallRequest = Schemas["CallRequest"];
export type CallResult = Schemas["CallResult"];
export type Explanation = Schemas["Explanation"];
export type Problem = Schemas["Problem"];
export type Finding = Schemas["Finding"];
export type CheckReport = Schemas["CheckReport"];
export type Revision = Schemas["Revision"];
export type RevisionPage = Schemas["RevisionPage"];
export type Draft = Schemas["Draft"];
export type Fleet = Schemas["Fleet"];
export type Proxy = Schemas["Proxy"];
export type GuardState = Schemas["GuardState"];
export type VersionGuards = Schemas["VersionGuards"];
export type Drill = Schemas["Drill"];
export type ActivityEntry = Schemas["ActivityEntry"];
export type Timeline = Schemas["Timeline"];
export type Point = Schemas["Point"];
export type Mark = Schemas["Mark"];
export type RequestRecord = Schemas["RequestRecord"];
export type FeedLine = Schemas["FeedLine"];
export type TraceList = Schemas["TraceList"];
export type TraceSummary = Schemas["TraceSummary"];
export type Trace = Schemas["Trace"];
export type TraceSpan = Schemas["TraceSpan"];
export type Effect = Schemas["Effect"];
export type EffectSummary = Schemas["EffectSummary"];
export type EffectRow = Schemas["EffectRow"];
export type EffectFigure = Schemas["EffectFigure"];
export type Trial = Schemas["Trial"];
export type ExpectationResult = Schemas["ExpectationResult"];
export type TrialComparison = Schemas["TrialComparison"];
export type ForecastRequest = Schemas["ForecastRequest"];
export type Forecast = Schemas["Forecast"];
export type Release = Schemas["Release"];
export type ReleasePage = Schemas["ReleasePage"];
export type StageJudgement = Schemas["StageJudgement"];
export type JudgementSide = Schemas["JudgementSide"];
export type StandIn = Schemas["StandIn"];
export type SweepPoint = Schemas["SweepPoint"];
export type RuleFile = Schemas["File"];

/** An error response of the service. */
export class ApiError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

async function refuse(response: Response): Promise<never> {
  const text = await response.text();
  let problem: Problem;
  try {
    problem = JSON.parse(text) as Problem;
  } catch {
    throw new Error(`The service responded ${response.status}.`);
  }
  throw new ApiError(problem);
}

async function send(method: string, path: string, body: unknown, headers: Record<string, string> = {}, signal?: AbortSignal): Promise<Response> {
  const response = await fetch(`/api/v1${path}`, {
    method,
    headers: { "Content-Type": "application/json", ...headers },
    ...(body === undefined ? {} : { body: JSON.stringify(body) }),
    ...(signal ? { signal } : {}),
  });
  return response.ok ? response : refuse(response);
}

const post = (path: string, body: unknown, headers?: Record<string, string>, signal?: AbortSignal) => send("POST", path, body, headers, signal);

async function get(path: string, signal?: AbortSignal): Promise<unknown> {
  return (await send("GET", path, undefined, {}, signal)).json();
}

/** The proxies. */
export async function readFleet(signal: AbortSignal): Promise<Fleet> {
  return (await get("/fleet", signal)) as Fleet;
}

/** What people did, and what proxies reported of their guards, newest first. */
export async function readActivity(service: string, limit: number, signal: AbortSignal): Promise<ActivityEntry[]> {
  return ((await get(`/activity?limit=${limit}&service=${encodeURIComponent(service)}`, signal)) as Schemas["ActivityPage"]).activity;
}

/** Starts a drill. */
export async function startDrill(body: Schemas["DrillRequest"]): Promise<Drill> {
  return (await (await post("/drills", body)).json()) as Drill;
}

/** Ends a drill before its time. */
export async function stopDrill(id: string): Promise<void> {
  await send("DELETE", `/drills/${encodeURIComponent(id)}?by=console`, undefined);
}

/** Checks files that are being edited. */
export async function check(bundle: string, files: RuleFile[], signal: AbortSignal): Promise<CheckReport> {
  return (await (await post("/rules/check", { bundle, files }, {}, signal)).json()) as CheckReport;
}

export async function format(files: RuleFile[]): Promise<RuleFile[]> {
  return ((await (await post("/rules/format", { files })).json()) as { files: RuleFile[] }).files;
}

export const readSchema = (): Promise<unknown> => get("/rules/schema");

/** One revision with its files; 0 is the one in force. */
export const readRevision = async (number: number): Promise<Revision> => (await get(`/revisions/${number}`)) as Revision;

export const readRevisions = async (before: number, limit: number): Promise<RevisionPage> => (await get(`/revisions?before=${before}&limit=${limit}`)) as RevisionPage;

/** Publishes files on top of a revision; refused when another one is in force. */
export async function publish(body: Schemas["PublishRequest"], base: number): Promise<Published> {
  return (await (await post("/revisions", body, { "If-Match": `"${base}"` })).json()) as Published;
}

/** Publishes an earlier revision again, on top of the one that the page shows. */
export async function restore(number: number, body: Schemas["RestoreRequest"], base: number): Promise<Published> {
  return (await (await post(`/revisions/${number}/restore`, body, { "If-Match": `"${base}"` })).json()) as Published;
}

const draftPath = (bundle: string, by: string) => `/drafts/${encodeURIComponent(bundle)}?by=${encodeURIComponent(by)}`;

/** The draft of a person; null: there is none. */
export async function readDraft(bundle: string, by: string): Promise<Draft | null> {
  try {
    return (await get(draftPath(bundle, by))) as Draft;
  } catch (e) {
    if (e instanceof ApiError && e.problem.code === "not-found") return null;
    throw e;
  }
}

export async function saveDraft(bundle: string, body: Schemas["DraftRequest"], version: number): Promise<Draft> {
  return (await (await send("PUT", `/drafts/${encodeURIComponent(bundle)}`, body, { "If-Match": `"${version}"` })).json()) as Draft;
}

export async function deleteDraft(bundle: string, by: string, version: number): Promise<void> {
  await send("DELETE", draftPath(bundle, by), undefined, { "If-Match": `"${version}"` });
}

/** Changes the weights of a route, on top of the revision that the page shows. */
export async function split(service: string, body: SplitRequest, revision: number): Promise<Published> {
  const response = await post(`/services/${encodeURIComponent(service)}/split`, body, { "If-Match": `"${revision}"` });
  return (await response.json()) as Published;
}

export async function explain(body: RequestSpec, signal: AbortSignal): Promise<Explanation> {
  return (await (await post("/explain", body, {}, signal)).json()) as Explanation;
}

/** Parameters of a query; empty ones are left out. */
export type Query = Record<string, string | number | undefined>;

function queryText(query: Query): string {
  const params = new URLSearchParams();
  for (const [name, value] of Object.entries(query)) if (value !== undefined && value !== "") params.set(name, String(value));
  return params.toString();
}

/** The mesh with the figures of ten seconds that ended at a time, in seconds since 1970. */
export const readMeshAt = async (at: number, signal: AbortSignal): Promise<Mesh> => (await get(`/mesh?${queryText({ at })}`, signal)) as Mesh;

/** The figures of a group of requests over time. */
export const readTimeline = async (query: Query, signal: AbortSignal): Promise<Timeline> => (await get(`/timeline?${queryText(query)}`, signal)) as Timeline;

/** Some of the latest requests that did not succeed, newest first. */
export async function readFailures(query: Query, signal: AbortSignal): Promise<RequestRecord[]> {
  return ((await get(`/requests/failures?${queryText(query)}`, signal)) as Schemas["RecentFailures"]).requests;
}

export const readTraces = async (query: Query, signal: AbortSignal): Promise<TraceList> => (await get(`/traces?${queryText(query)}`, signal)) as TraceList;

export const readTrace = async (id: string, signal: AbortSignal): Promise<Trace> => (await get(`/traces/${encodeURIComponent(id)}`, signal)) as Trace;

/** The effect of each revision, newest first. */
export const readEffects = async (limit: number, signal: AbortSignal): Promise<EffectSummary[]> => ((await get(`/effects?limit=${limit}`, signal)) as Schemas["EffectPage"]).effects;

/** The effect of a revision, or what changed at a moment. */
export const readEffect = async (query: Query, signal: AbortSignal): Promise<Effect> => (await get(`/effect?${queryText(query)}`, signal)) as Effect;

/** The URL of the report on an effect or a trial. */
export const reportURL = (path: string, query: Query = {}): string => `/api/v1${path}/report?${queryText(query)}`;

export const readTrials = async (limit: number, signal: AbortSignal): Promise<Trial[]> => ((await get(`/trials?limit=${limit}`, signal)) as Schemas["TrialPage"]).trials;

export const readTrial = async (number: number, signal: AbortSignal): Promise<Trial> => (await get(`/trials/${number}`, signal)) as Trial;

export const readTrialNames = async (): Promise<string[]> => ((await get("/trials/names")) as Schemas["TrialNames"]).names;

export const startTrial = async (body: Schemas["TrialRequest"]): Promise<Trial> => (await (await post("/trials", body)).json()) as Trial;

export async function stopTrial(number: number): Promise<void> {
  await send("DELETE", `/trials/${number}?by=console`, undefined);
}

export const compareTrials = async (before: number, after: number, signal: AbortSignal): Promise<TrialComparison> => (await get(`/trials/${before}/against/${after}`, signal)) as TrialComparison;

export const readReleases = async (limit: number, signal: AbortSignal): Promise<ReleasePage> => (await get(`/releases?limit=${limit}`, signal)) as ReleasePage;

/** A release by its number or name, with its judgements, events and notifications. */
export const readRelease = async (name: string, signal: AbortSignal): Promise<Release> => (await get(`/releases/${encodeURIComponent(name)}`, signal)) as Release;

export const startRelease = async (name: string, by: string): Promise<Release> => (await (await post("/releases", { name, by })).json()) as Release;

/** Acts on a release: hold, resume, skip, withdraw or finish. */
export const actRelease = async (number: number, act: string, by: string, why: string): Promise<Release> => (await (await post(`/releases/${number}/${act}`, { by, why })).json()) as Release;

export const readStandIns = async (signal: AbortSignal): Promise<StandIn[]> => ((await get("/standins", signal)) as Schemas["StandInList"]).standIns;

/** Changes the behaviour of the stand-ins of SERVICE/VERSION. */
export const changeStandIn = async (which: string, body: Schemas["StandInChange"]): Promise<void> => void (await send("PUT", `/standins/${encodeURIComponent(which.replace("/", "~"))}`, body));

/** Computes a forecast. */
export const forecast = async (body: ForecastRequest, signal: AbortSignal): Promise<Forecast> => (await (await post("/forecasts", body, {}, signal)).json()) as Forecast;

/** Calls each with every line of a stream. */
async function lines(response: Response, each: (line: string) => void): Promise<void> {
  const reader = response.body?.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  while (reader) {
    const { done, value } = await reader.read();
    if (done) break;
    const whole = (rest + value).split("\n");
    rest = whole.pop() ?? "";
    whole.forEach(each);
  }
}

/** Follows requests as they end, until the signal or the service ends it. */
export async function followRequests(query: Query, each: (line: FeedLine) => void, signal: AbortSignal): Promise<void> {
  await lines(await send("GET", `/requests?${queryText(query)}`, undefined, {}, signal), (line) => each(JSON.parse(line) as FeedLine));
}

/** Sends requests; each is called with every interim result. */
export async function call(body: CallRequest, each: (result: CallResult) => void, signal: AbortSignal): Promise<void> {
  const response = await post("/calls", body, {}, signal);
  let final = false;
  await lines(response, (line) => {
    const result = JSON.parse(line) as CallResult;
    final ||= result.isFinal;
    each(result);
  });
  if (!final) throw new Error("The service ended the call early. Is it still running?");
}

export type AccessMatrix = Schemas["AccessMatrix"];
export type AccessLink = Schemas["AccessLink"];
export type AccessSuggestion = Schemas["AccessSuggestion"];
export type Authority = Schemas["Authority"];

/** Who may call whom, who did, and who was refused. */
export async function readAccess(signal: AbortSignal): Promise<AccessMatrix> {
  return (await get("/access", signal)) as AccessMatrix;
}

/** Access rules for what was used. */
export const suggestAccess = async (): Promise<AccessSuggestion> => (await get("/access/suggestion")) as AccessSuggestion;

/** Who signs the certificates of the mesh. */
export async function readAuthority(signal: AbortSignal): Promise<Authority> {
  return (await get("/authority", signal)) as Authority;
}

/** Begins to replace the root by a new one. */
export async function rotateAuthority(by: string): Promise<void> {
  await post("/authority/rotate", { by });
}
