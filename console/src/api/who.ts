import type { components } from "./schema";

type Who = components["schemas"]["Who"];

/** Who uses this browser, as the service knows them. */
interface Signed {
  /** null: nobody, or not known yet. */
  who: Who | null;
  /** Nobody is signed in. */
  isOut: boolean;
}

let signed: Signed = { who: null, isOut: false };
const listeners = new Set<() => void>();

function set(next: Signed): void {
  signed = next;
  listeners.forEach((l) => l());
}

/** Who is signed in. */
export const whoNow = (): Signed => signed;

/** Calls listener when somebody is signed in or out; the result ends that. */
export function onWho(listener: () => void): () => void {
  listeners.add(listener);
  return () => listeners.delete(listener);
}

/** Nobody is signed in: a call was answered so. */
export function signedOut(): void {
  if (!signed.isOut) set({ who: null, isOut: true });
}

/** Asks the service who is signed in. While it does not respond, nothing changes. */
export async function askWho(): Promise<Who | null> {
  try {
    const response = await fetch("/api/v1/who");
    if (response.status === 401) signedOut();
    if (response.ok) set({ who: (await response.json()) as Who, isOut: false });
  } catch {
    return signed.who;
  }
  return signed.who;
}

const roles = ["viewer", "editor", "admin"];

/** Tells whether somebody may change what is of a team; empty: the platform's. */
export const owns = (who: Who | null, team: string): boolean => !who?.teams?.length || who.teams.includes(team);

/** Tells whether somebody may do what needs a role. Before it is known who it is, the service decides. */
export const may = (who: Who | null, role: "viewer" | "editor" | "admin"): boolean => who === null || roles.indexOf(who.role) >= roles.indexOf(role);
