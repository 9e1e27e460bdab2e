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

async function post(path: string, body: unknown, headers: Record<string, string> = {}, signal?: AbortSignal): Promise<Response> {
  const response = await fetch(`/api/v1${path}`, {
    method: "POST",
    headers: { "Content-Type": "application/json", ...headers },
    body: JSON.stringify(body),
    ...(signal ? { signal } : {}),
  });
  return response.ok ? response : refuse(response);
}

/** Changes the weights of a route, on top of the revision that the page shows. */
export async function split(service: string, body: SplitIn, revision: number): Promise<Published> {
  const response = await post(`/services/${encodeURIComponent(service)}/split`, body, { "If-Match": `"${revision}"` });
  return (await response.json()) as Published;
}

export async function explain(body: Ask, signal: AbortSignal): Promise<Explained> {
  return (await (await post("/explain", body, {}, signal)).json()) as Explained;
}

/** Sends requests; each is called with every tally on the way. */
export async function call(body: Call, each: (tally: Tally) => void, signal: AbortSignal): Promise<void> {
  const response = await post("/calls", body, {}, signal);
  const reader = response.body?.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  let final = false;
  while (reader) {
    const { done, value } = await reader.read();
    if (done) break;
    const lines = (rest + value).split("\n");
    rest = lines.pop() ?? "";
    for (const line of lines) {
      const tally = JSON.parse(line) as Tally;
      final ||= tally.final;
      each(tally);
    }
  }
  if (!final) throw new Error("The service ended the call early. Is it still running?");
}
