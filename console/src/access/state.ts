import type { AccessLink } from "../api/client";
import { count } from "../kit/format";

/** What a link comes to. */
export type State = "used" | "unused" | "watched" | "refused" | "denied";

export function stateOf(l: AccessLink): State {
  if (l.refused > 0) return "refused";
  if (l.watched > 0) return "watched";
  if (l.used > 0) return "used";
  return l.state === "denied" ? "denied" : "unused";
}

/** The link in a few words. */
export function describe(l: AccessLink): string {
  const parts = [];
  if (l.used > 0) parts.push(`${count(l.used)} used`);
  if (l.refused > 0) parts.push(`${count(l.refused)} refused`);
  if (l.watched > 0) parts.push(`${count(l.watched)} watched`);
  return parts.join(", ") || (l.state === "denied" ? "denied" : "unused");
}

/** A caller, for people. */
export const callerName = (caller: string): string => (caller === "nightjar" ? "the service itself" : caller.replace("gateway/", "gateway ") || "no identity");
