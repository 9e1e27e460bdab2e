import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useSyncExternalStore } from "react";
import { author, onAuthor } from "../api/author";
import { api, basedOn, readDraft, take, type CheckReport, type Mesh, type RuleFile, type Schemas } from "../api/client";
import { useMesh } from "../api/live";

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

/** Finds the bundle that declares a service or gateway, and reads the person's draft of it. */
async function readBundle(section: string, parent: string, who: string, signal: AbortSignal): Promise<Bundle> {
  const force = await take(api.GET("/api/v1/revisions/{number}", { params: { path: { number: "0" } }, signal }));
  const bundles = Object.entries(force.bundles ?? {}).sort(([a], [b]) => (a === "main" ? -1 : b === "main" ? 1 : a.localeCompare(b)));
  let name = "main";
  for (const [bundle, files] of bundles) {
    const values = await valuesOf(files, signal);
    if (Object.values(values).some((v) => valueAt(v, [section, parent]) !== undefined)) {
      name = bundle;
      break;
    }
  }
  const draft = await readDraft(name, who);
  const files = draft?.files ?? force.bundles?.[name] ?? [];
  return { name, files, base: draft?.base ?? force.number, version: draft?.version ?? 0, values: await valuesOf(files, signal) };
}

/** A change of a value: absent, it goes. */
export interface Amendment {
  path: string[];
  value?: Value;
  /** Where in its list the item goes. */
  index?: number;
}

/** The bundle that declares a service or gateway, and ways to change the person's draft of it. */
export function useBundle(section: "services" | "gateways", parent: string) {
  const who = useSyncExternalStore(onAuthor, author);
  const revision = useMesh(numberOf);
  const client = useQueryClient();
  const { data, error } = useQuery({
    queryKey: ["bundle", section, parent, who, revision],
    queryFn: ({ signal }): Promise<Bundle> => readBundle(section, parent, who, signal),
    placeholderData: (old, query): Bundle | undefined => (query?.queryKey[1] === section && query.queryKey[2] === parent && query.queryKey[3] === who ? old : undefined),
  });

  /** The file for a path: the one that has most of it already. */
  const fileOf = (b: Bundle, path: string[]): string => {
    for (let n = path.length; n > 0; n--) {
      const found = b.files.find((f) => valueAt(b.values[f.name], path.slice(0, n)) !== undefined);
      if (found) return found.name;
    }
    return b.files.find((f) => valueAt(b.values[f.name], [section, parent]) !== undefined)?.name ?? b.files[0]?.name ?? "rules.yaml";
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
    await api.PUT("/api/v1/drafts/{bundle}", { params: { path: { bundle: data.name }, header: basedOn(data.version) }, body: { by: who, base: data.base, files } });
    await client.invalidateQueries({ queryKey: ["bundle"] });
    return report;
  };

  const discard = async () => {
    if (data && data.version > 0) await api.DELETE("/api/v1/drafts/{bundle}", { params: { path: { bundle: data.name }, query: { by: who }, header: basedOn(data.version) } });
    await client.invalidateQueries({ queryKey: ["bundle"] });
  };
  return { bundle: data, error, who, revision, amend, discard };
}
