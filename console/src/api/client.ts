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
export type SplitIn = Schemas["SplitIn"];
export type Ask = Schemas["Ask"];
export type Call = Schemas["Call"];
export type Tally = Schemas["Tally"];
export type Explained = Schemas["Explained"];
export type Problem = Schemas["Problem"];
export type Finding = Schemas["RulesFinding"];
export type RuleFile = Schemas["RulesFile"];
export type Report = Schemas["Report"];
export type Revision = Schemas["Revision"];
export type Revisions = Schemas["Revisions"];
export type Draft = Schemas["Draft"];
export type Fleet = Schemas["Fleet"];
export type Member = Schemas["Member"];
export type Caller = Schemas["Caller"];
export type VersionStatus = Schemas["EngineVersionStatus"];
export type Drill = Schemas["Drill"];
export type Happened = Schemas["StoreActivity"];
export type AppFigures = Schemas["AppFigures"];
export type Timeline = Schemas["Timeline"];
export type Point = Schemas["Point"];
export type Mark = Schemas["Mark"];
export type Request = Schemas["WireRecord"];
export type FeedLine = Schemas["FeedLine"];
export type TraceList = Schemas["Traces"];
export type TraceSummary = Schemas["TracesSummary"];
export type Trace = Schemas["TracesTrace"];
export type TraceRow = Schemas["TracesRow"];
export type Effect = Schemas["Effect"];
export type EffectHead = Schemas["EffectHead"];
export type EffectRow = Schemas["EffectRow"];
export type EffectFigure = Schemas["EffectFigure"];
export type Trial = Schemas["Trial"];
export type Judgement = Schemas["TrialJudgement"];
export type TrialComparison = Schemas["TrialComparison"];
export type ForecastAsk = Schemas["ForecastAsk"];
export type Forecast = Schemas["Forecast"];
export type Release = Schemas["Release"];
export type ReleaseList = Schemas["ReleaseList"];
export type ReleaseJudgement = Schemas["ReleaseJudgement"];
export type ReleaseSide = Schemas["ReleaseSide"];
export type Standin = Schemas["Standin"];
export type SweepPoint = Schemas["SweepPoint"];

/** An error that the service answered. */
export class Refused extends Error {
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
    throw new Error(`The service answered ${response.status}.`);
  }
  throw new Refused(problem);
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

/** What people did and what proxies saw of their guards, newest first. */
export async function readActivity(service: string, limit: number, signal: AbortSignal): Promise<Happened[]> {
  return ((await get(`/activity?limit=${limit}&service=${encodeURIComponent(service)}`, signal)) as Schemas["Activity"]).activity;
}

/** Begins a drill. */
export async function startDrill(body: Schemas["DrillAsk"]): Promise<Drill> {
  return (await (await post("/drills", body)).json()) as Drill;
}

/** Ends a drill before its time. */
export async function stopDrill(id: string): Promise<void> {
  await send("DELETE", `/drills/${encodeURIComponent(id)}?by=console`, undefined);
}

/** Checks files that are being worked on; nothing is remembered. */
export async function check(bundle: string, files: RuleFile[], signal: AbortSignal): Promise<Report> {
  return (await (await post("/rules/check", { bundle, files, passing: true }, {}, signal)).json()) as Report;
}

export async function format(files: RuleFile[]): Promise<RuleFile[]> {
  return ((await (await post("/rules/format", { files })).json()) as { files: RuleFile[] }).files;
}

export const readSchema = (): Promise<unknown> => get("/rules/schema");

/** One revision with its files; 0 is the one in force. */
export const readRevision = async (number: number): Promise<Revision> => (await get(`/revisions/${number}`)) as Revision;

export const readRevisions = async (before: number, limit: number): Promise<Revisions> => (await get(`/revisions?before=${before}&limit=${limit}`)) as Revisions;

/** Publishes files on top of a revision; refused when another one is in force. */
export async function publish(body: Schemas["PublishIn"], base: number): Promise<Published> {
  return (await (await post("/revisions", body, { "If-Match": `"${base}"` })).json()) as Published;
}

export async function restore(number: number, body: Schemas["RestoreIn"]): Promise<Published> {
  return (await (await post(`/revisions/${number}/restore`, body)).json()) as Published;
}

const draftPath = (bundle: string, by: string) => `/drafts/${encodeURIComponent(bundle)}?by=${encodeURIComponent(by)}`;

/** What somebody is working on; null: nothing. */
export async function readDraft(bundle: string, by: string): Promise<Draft | null> {
  try {
    return (await get(draftPath(bundle, by))) as Draft;
  } catch (e) {
    if (e instanceof Refused && e.problem.code === "no-draft") return null;
    throw e;
  }
}

export async function saveDraft(bundle: string, body: Schemas["DraftIn"], version: number): Promise<Draft> {
  return (await (await send("PUT", `/drafts/${encodeURIComponent(bundle)}`, body, { "If-Match": `"${version}"` })).json()) as Draft;
}

export async function dropDraft(bundle: string, by: string): Promise<void> {
  await send("DELETE", draftPath(bundle, by), undefined);
}

/** Changes the weights of a route, on top of the revision that the page shows. */
export async function split(service: string, body: SplitIn, revision: number): Promise<Published> {
  const response = await post(`/services/${encodeURIComponent(service)}/split`, body, { "If-Match": `"${revision}"` });
  return (await response.json()) as Published;
}

export async function explain(body: Ask, signal: AbortSignal): Promise<Explained> {
  return (await (await post("/explain", body, {}, signal)).json()) as Explained;
}

/** What a request has to be like; what is empty does not matter. */
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
export async function readTrouble(query: Query, signal: AbortSignal): Promise<Request[]> {
  return ((await get(`/requests/trouble?${queryText(query)}`, signal)) as Schemas["Trouble"]).requests;
}

export const readTraces = async (query: Query, signal: AbortSignal): Promise<TraceList> => (await get(`/traces?${queryText(query)}`, signal)) as TraceList;

export const readTrace = async (id: string, signal: AbortSignal): Promise<Trace> => (await get(`/traces/${encodeURIComponent(id)}`, signal)) as Trace;

/** What each revision did, newest first. */
export const readEffects = async (limit: number, signal: AbortSignal): Promise<EffectHead[]> => ((await get(`/effects?limit=${limit}`, signal)) as Schemas["Effects"]).effects;

/** What a revision did, or what changed at a moment. */
export const readEffect = async (query: Query, signal: AbortSignal): Promise<Effect> => (await get(`/effect?${queryText(query)}`, signal)) as Effect;

/** Where an effect or a trial is to be had as one page. */
export const reportURL = (path: string, query: Query = {}): string => `/api/v1${path}/report?${queryText(query)}`;

export const readTrials = async (limit: number, signal: AbortSignal): Promise<Trial[]> => ((await get(`/trials?limit=${limit}`, signal)) as Schemas["Trials"]).trials;

export const readTrial = async (number: number, signal: AbortSignal): Promise<Trial> => (await get(`/trials/${number}`, signal)) as Trial;

export const readTrialNames = async (): Promise<string[]> => ((await get("/trials/names")) as Schemas["TrialNames"]).names;

export const startTrial = async (body: Schemas["TrialAsk"]): Promise<Trial> => (await (await post("/trials", body)).json()) as Trial;

export async function stopTrial(number: number): Promise<void> {
  await send("DELETE", `/trials/${number}?by=console`, undefined);
}

export const compareTrials = async (before: number, after: number, signal: AbortSignal): Promise<TrialComparison> => (await get(`/trials/${before}/against/${after}`, signal)) as TrialComparison;

export const readReleases = async (limit: number, signal: AbortSignal): Promise<ReleaseList> => (await get(`/releases?limit=${limit}`, signal)) as ReleaseList;

/** A release by its number or name, with its judgements, events and notices. */
export const readRelease = async (name: string, signal: AbortSignal): Promise<Release> => (await get(`/releases/${encodeURIComponent(name)}`, signal)) as Release;

export const startRelease = async (name: string, by: string): Promise<Release> => (await (await post("/releases", { name, by })).json()) as Release;

/** Tells a release what a person wants: hold, resume, skip, withdraw or finish. */
export const actRelease = async (number: number, act: string, by: string, why: string): Promise<Release> => (await (await post(`/releases/${number}/${act}`, { by, why })).json()) as Release;

export const readStandins = async (signal: AbortSignal): Promise<Standin[]> => ((await get("/standins", signal)) as Schemas["Standins"]).standins;

/** Lets the simulated workloads of SERVICE/VERSION behave otherwise. */
export const setStandin = async (which: string, body: Schemas["StandinChange"]): Promise<void> => void (await send("PUT", `/standins/${encodeURIComponent(which.replace("/", "~"))}`, body));

/** Computes what requests would come to. */
export const forecast = async (body: ForecastAsk, signal: AbortSignal): Promise<Forecast> => (await (await post("/forecasts", body, {}, signal)).json()) as Forecast;

/** Calls each with the lines of a stream, as many at once as came together. */
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

/** Sends requests; each is called with every tally on the way. */
export async function call(body: Call, each: (tally: Tally) => void, signal: AbortSignal): Promise<void> {
  const response = await post("/calls", body, {}, signal);
  let final = false;
  await lines(response, (line) => {
    const tally = JSON.parse(line) as Tally;
    final ||= tally.final;
    each(tally);
  });
  if (!final) throw new Error("The service ended the call early. Is it still running?");
}
