import { Link } from "wouter";
import type { Schemas } from "../api/client";

/** The address of the editor at a place in a rule file. */
export function placeLink(at: Schemas["Origin"]): string {
  const [bundle, file] = splitName(at.file ?? "");
  const params = new URLSearchParams({ ...(bundle === "main" ? {} : { bundle }), file, line: String(at.line ?? 1), ...(at.col ? { col: String(at.col) } : {}) });
  return `/rules?${params.toString()}`;
}

/** Files of other bundles than main have the name of their bundle before a colon. */
export function splitName(file: string): [bundle: string, file: string] {
  const at = file.indexOf(":");
  return at < 0 ? ["main", file] : [file.slice(0, at), file.slice(at + 1)];
}

/** Reads FILE:LINE or FILE:LINE:COLUMN. */
export function placeOf(text: string): Schemas["Origin"] {
  const at = /:(\d+)(?::(\d+))?$/.exec(text);
  if (!at) return { file: text, line: 1 };
  return { file: text.slice(0, at.index), line: Number(at[1]), ...(at[2] ? { col: Number(at[2]) } : {}) };
}

/** A place in a rule file, as a way into the editor. */
export function Place({ at }: { at: Schemas["Origin"] }) {
  if (!at.file) return null;
  return <Link to={placeLink(at)} style={{ color: "inherit" }}>{at.file}:{at.line}</Link>;
}
