import { skipToken, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, basedOn, readDraft, take, type CheckReport, type Mesh, type RuleFile, type Schemas } from "../api/client";
import { useMesh } from "../api/live";
import { useMay } from "../kit/For";

/** What a value of a rule file can be. */
export type Value = string | number | boolean | null | Value[] | { [key: string]: Value };
export type Fields = { [key: string]: Value };

/** The files of a bundle as somebody edits them, or as they are in force. */
export interface Bundle {
  name: string;
  files: RuleFile[];
  /** Revision that the draft is based on. */
  base: number;
  /** Version of the draft; 0: there is none, and the files are those in force. */
  version: number;
  /** What each file says, by its name. */
  values: Record<string, Fields>;
}

export const isFields = (v: Value | undefined): v is Fields => typeof v === "object" && v !== null && !Array.isArray(v);

/** The value at a path. An item of a list is named by its key name, or by its number. */
export function valueAt(value: Value | undefined, path: string[]): Value | undefined {
  const [first, ...rest] = path;
  if (first === undefined) return value;
  if (Array.isArray(value)) {
    const item = value.find((v) => isFields(v) && v["name"] === first) ?? value[Number(first)];
    return valueAt(item, rest);
  }
  return isFields(value) ? valueAt(value[first], rest) : undefined;
}

const numberOf = (mesh: Mesh | null) => mesh?.revision.number ?? 0;

async function valuesOf(files: RuleFile[], signal: AbortSignal): Promise<Record<string, Fields>> {
  const list = await take(api.POST("/api/v1/rules/values", { body: { files }, signal }));
  return Object.fromEntries(list.files.map((f) => [f.name, isFields(f.value as Value) ? (f.value as Fields) : {}]));
}

/** Which bundle: one by its name, or the one that declares a service or gateway. */
export type Which = { bundle: string } | { section: "services" | "gateways"; parent: string };

/** Finds a bundle, and reads the person's draft of it. */
async function readBundle(which: Which, signal: AbortSignal): Promise<Bundle> {
  const force = await take(api.GET("/api/v1/revisions/{number}", { params: { path: { number: "0" } }, signal }));
  const name = "bundle" in which ? which.bundle : await bundleOf(force.bundles ?? {}, [which.section, which.parent], signal);
  const draft = await readDraft(name);
  const files = draft?.files ?? force.bundles?.[name] ?? [];
  return { name, files, base: draft?.base ?? force.number, version: draft?.version ?? 0, values: await valuesOf(files, signal) };
}

/** The bundle that declares what is at a path; main if none does. */
async function bundleOf(bundles: Record<string, RuleFile[]>, path: string[], signal: AbortSignal): Promise<string> {
  const sorted = Object.entries(bundles).sort(([a], [b]) => (a === "main" ? -1 : b === "main" ? 1 : a.localeCompare(b)));
  for (const [name, files] of sorted) {
    const values = await valuesOf(files, signal);
    if (Object.values(values).some((v) => valueAt(v, path) !== undefined)) return name;
  }
  return "main";
}

/** A change of a value: absent, it goes. */
export interface Amendment {
  path: string[];
  value?: Value;
  /** Where in its list the item goes. */
  index?: number;
}

/** A bundle, and ways to change the person's draft of it; null: none is looked at. */
export function useBundle(which: Which | null) {
  const isEditor = useMay("editor"); // nobody else has drafts
  const revision = useMesh(numberOf);
  const client = useQueryClient();
  const key = JSON.stringify(which);
  const { data, error, refetch } = useQuery({
    queryKey: ["bundle", key, revision],
    queryFn: which && isEditor ? ({ signal }): Promise<Bundle> => readBundle(which, signal) : skipToken,
    placeholderData: (old, query): Bundle | undefined => (query?.queryKey[1] === key ? old : undefined),
  });
  const parent = which && "section" in which ? [which.section, which.parent] : [];

  /** The file for a path: the one that has most of it already. */
  const fileOf = (b: Bundle, path: string[]): string => {
    for (let n = path.length; n > 0; n--) {
      const found = b.files.find((f) => valueAt(b.values[f.name], path.slice(0, n)) !== undefined);
      if (found) return found.name;
    }
    return b.files.find((f) => parent.length > 0 && valueAt(b.values[f.name], parent) !== undefined)?.name ?? b.files[0]?.name ?? "rules.yaml";
  };

  /**
   * Makes changes in the draft, in the text of its files. They are not saved if the
   * rules have more mistakes by them; the report says which.
   */
  const amend = async (list: Amendment[]): Promise<CheckReport> => {
    if (!data) throw new Error("The rules are not loaded yet.");
    const amendments: Schemas["Amendment"][] = list.map((a) => ({ file: fileOf(data, a.path), path: a.path, ...(a.value === undefined ? {} : { value: a.value }), ...(a.index === undefined ? {} : { index: a.index }) }));
    const before = await take(api.POST("/api/v1/rules/check", { body: { bundle: data.name, files: data.files } }));
    const { files } = await take(api.POST("/api/v1/rules/amend", { body: { files: data.files, amendments } }));
    const report = await take(api.POST("/api/v1/rules/check", { body: { bundle: data.name, files } }));
    if (report.mistakes > before.mistakes) return report;
    await api.PUT("/api/v1/drafts/{bundle}", { params: { path: { bundle: data.name }, header: basedOn(data.version) }, body: { base: data.base, files } });
    await client.invalidateQueries({ queryKey: ["bundle"] });
    return report;
  };

  const discard = async () => {
    if (data && data.version > 0) await api.DELETE("/api/v1/drafts/{bundle}", { params: { path: { bundle: data.name }, header: basedOn(data.version) } });
    await client.invalidateQueries({ queryKey: ["bundle"] });
  };
  /** The bundle as it is now: the draft may have been changed elsewhere since it was read. */
  const reread = async (): Promise<Bundle> => {
    const { data: newest, error: unread } = await refetch();
    if (unread) throw unread;
    if (!newest) throw new Error("The rules cannot be read.");
    return newest;
  };
  return { bundle: data, error, revision, reread, amend, discard };
}
