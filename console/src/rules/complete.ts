import type { Completion, CompletionContext, CompletionResult } from "@codemirror/autocomplete";

/** The part of JSON Schema that the rule language's schema uses. */
export interface Schema {
  $ref?: string;
  $defs?: Record<string, Schema>;
  description?: string;
  properties?: Record<string, Schema>;
  additionalProperties?: boolean | Schema;
  items?: Schema;
  anyOf?: Schema[];
  enum?: unknown[];
  const?: unknown;
}

/** Names that values can be, as far as they are declared. */
export interface Names {
  /** Services with their versions. */
  services: Record<string, string[]>;
  gateways: string[];
  sites: string[];
}

/** A place in a document: keys, and [] for an item of a list. */
type Step = string;
const item = "[]";

interface Place {
  path: Step[];
  /** The cursor stands behind "key:"; otherwise where a key begins. */
  value: boolean;
}

interface Head {
  /** Column of the first dash or of the content. */
  indent: number;
  /** Column of the content behind the dashes. */
  content: number;
  dashes: number;
  key: string | null;
  /** Something stands behind the key. */
  filled: boolean;
}

function readLine(line: string): Head | null {
  const indent = line.length - line.trimStart().length;
  let content = indent;
  let dashes = 0;
  let rest = line.slice(indent);
  if (rest === "" || rest.startsWith("#")) return null;
  for (let m = /^-(\s+|$)/.exec(rest); m; m = /^-(\s+|$)/.exec(rest)) {
    dashes += 1;
    content += m[0].length;
    rest = rest.slice(m[0].length);
  }
  const m = /^("[^"]*"|'[^']*'|[^\s{}[\],#:]+)\s*:(?=\s|$)(.*)/.exec(rest);
  const key = m?.[1]?.replace(/^["']|["']$/g, "") ?? null;
  return { indent, content, dashes, key, filled: m !== null && (m[2] ?? "").replace(/#.*/, "").trim() !== "" };
}

/** Where brackets open on a line and are not closed before its end. */
function openFlow(prefix: string): number {
  const open: number[] = [];
  let quote = "";
  for (let i = 0; i < prefix.length; i++) {
    const c = prefix[i] ?? "";
    if (quote) {
      if (c === quote) quote = "";
    } else if (c === '"' || c === "'") quote = c;
    else if ((c === "{" || c === "[") && (open.length > 0 || /[\s:-]$/.test(prefix.slice(0, i)))) open.push(i);
    else if (c === "}" || c === "]") open.pop();
  }
  return open[0] ?? -1;
}

/** Finds the place of the cursor, which stands at the end of the last line. */
export function placeOf(lines: string[]): Place {
  const prefix = lines[lines.length - 1] ?? "";
  const flowAt = openFlow(prefix);
  const head = flowAt >= 0 ? prefix.slice(0, flowAt) : prefix;
  const path: Step[] = [];
  const own = readLine(head);
  let limit = own ? own.indent : head.length;
  let afterDash = false;
  let value = false;
  if (own) {
    for (let i = 0; i < own.dashes; i++) path.unshift(item);
    afterDash = own.dashes > 0;
    if (own.key !== null) {
      path.push(own.key);
      value = true;
    }
  }
  for (let i = lines.length - 2; i >= 0 && limit >= 0; i--) {
    const line = readLine(lines[i] ?? "");
    if (!line) continue;
    if (line.dashes > 0) {
      if (line.content < limit && line.key !== null && !line.filled) {
        path.unshift(line.key);
        limit = line.content;
        afterDash = false;
      }
      if (line.indent < limit) {
        for (let d = 0; d < line.dashes; d++) path.unshift(item);
        limit = line.indent;
        afterDash = true;
      }
    } else if (line.key !== null && !line.filled && (line.indent < limit || (afterDash && line.indent === limit))) {
      path.unshift(line.key);
      limit = line.indent;
      afterDash = false;
    }
    if (limit === 0 && !afterDash) break;
  }
  if (flowAt < 0) return { path, value };
  return inFlow(path, prefix.slice(flowAt));
}

/** Goes on inside brackets on one line. */
function inFlow(path: Step[], text: string): Place {
  const stack: { kind: string; key: string | null }[] = [];
  let word = "";
  let quote = "";
  for (const c of text) {
    const top = stack[stack.length - 1];
    if (quote) {
      if (c === quote) quote = "";
      else word += c;
    } else if (c === '"' || c === "'") quote = c;
    else if (c === "{" || c === "[") {
      stack.push({ kind: c, key: null });
      word = "";
    } else if (c === "}" || c === "]") {
      stack.pop();
      word = "";
    } else if (c === ",") {
      if (top) top.key = null;
      word = "";
    } else if (c === ":" && top?.kind === "{" && top.key === null) {
      top.key = word.trim();
      word = "";
    } else word += c;
  }
  const out = [...path];
  let value = false;
  for (const s of stack) {
    value = s.kind === "[" || s.key !== null;
    if (s.kind === "[") out.push(item);
    else if (s.key !== null) out.push(s.key);
  }
  return { path: out, value };
}

/** Every schema that s can mean, with references followed. */
function expand(s: Schema, root: Schema, depth = 0): Schema[] {
  if (depth > 8) return [];
  const out = [s];
  if (s.$ref) {
    const to = root.$defs?.[s.$ref.replace("#/$defs/", "")];
    if (to) out.push(...expand(to, root, depth + 1));
  }
  for (const a of s.anyOf ?? []) out.push(...expand(a, root, depth + 1));
  return out;
}

export function schemasAt(root: Schema, path: Step[]): Schema[] {
  let now = expand(root, root);
  for (const step of path) {
    const next: Schema[] = [];
    for (const s of now) {
      if (step === item) {
        if (s.items) next.push(...expand(s.items, root));
      } else if (s.properties?.[step]) next.push(...expand(s.properties[step], root));
      else if (typeof s.additionalProperties === "object") next.push(...expand(s.additionalProperties, root));
    }
    now = next;
  }
  return now;
}

/** Declared names that fit where the cursor stands. */
function namesAt(path: Step[], names: Names): string[] {
  const keys = path.filter((s) => s !== item);
  const last = keys[keys.length - 1] ?? "";
  const targets = () => {
    const home = keys[0] === "services" ? (keys[1] ?? "") : "";
    const all = Object.entries(names.services).flatMap(([s, vs]) => vs.map((v) => (s === home ? v : `${s}/${v}`)));
    return keys[0] === "gateways" ? [...Object.keys(names.services), ...all] : all;
  };
  if (last === "send" || last === "otherwise" || (last === "to" && keys.includes("mirror"))) return targets();
  if (last === "from" && keys[0] === "releases") return names.services[""] ?? [];
  if (last === "from" || last === "service" || (last === "to" && keys[0] !== "releases")) return [...Object.keys(names.services), ...(last === "from" ? names.gateways : [])];
  if (last === "site") return names.sites;
  if (last === "order") return ["same", ...names.sites];
  return [];
}

/** Completes keys by the schema, and values by the schema and declared names. */
export function complete(context: CompletionContext, root: Schema, names: Names): CompletionResult | null {
  const before = context.state.doc.sliceString(0, context.pos);
  const word = /[\w./@-]*$/.exec(before)?.[0] ?? "";
  const from = context.pos - word.length;
  const lines = before.slice(0, from).split("\n");
  const place = placeOf(lines);
  const schemas = schemasAt(root, place.path);
  const options: Completion[] = [];
  const flow = openFlow(lines[lines.length - 1] ?? "") >= 0;
  const key = !place.value;
  if (key) {
    for (const s of schemas) {
      for (const [name, p] of Object.entries(s.properties ?? {})) {
        const about = expand(p, root).find((x) => x.description)?.description;
        options.push({ label: name, apply: `${name}: `, type: "property", ...(about ? { info: about } : {}) });
      }
    }
    if (place.path[place.path.length - 1] === "send") for (const n of namesAt(place.path, names)) options.push({ label: n, apply: `${n}: `, type: "constant" });
  } else {
    for (const s of schemas) {
      for (const v of [...(s.enum ?? []), ...(s.const !== undefined ? [s.const] : [])]) options.push({ label: String(v), type: "enum" });
    }
    for (const n of namesAt(place.path, names)) options.push({ label: n, type: "constant" });
  }
  const seen = new Set<string>();
  const unique = options.filter((o) => !seen.has(o.label) && seen.add(o.label));
  if (unique.length === 0 || (!context.explicit && word === "" && !flow && !key && unique.length > 12)) return null;
  if (!context.explicit && word === "" && key && !flow) return null;
  return { from, options: unique, validFor: /^[\w./@-]*$/ };
}
