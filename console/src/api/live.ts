import { replaceEqualDeep } from "@tanstack/react-query";
import { useMemo, useSyncExternalStore } from "react";
import type { Mesh } from "./client";
import { askWho, whoNow } from "./who";

/** The newest event of the live stream. */
interface Live {
  mesh: Mesh | null;
  /** When the last event came, in ms; 0: none yet. */
  at: number;
  /** No event came for three seconds; one should come every second. */
  isStale: boolean;
}

const silence = 3000;

let live: Live = { mesh: null, at: 0, isStale: false };
const listeners = new Set<() => void>();

function set(next: Live): void {
  live = next;
  listeners.forEach((l) => l());
}

function subscribe(listener: () => void): () => void {
  listeners.add(listener);
  return () => listeners.delete(listener);
}

/** What changed in a value: the new value, nothing for a member that is gone, or changes inside, by name or index. */
export type Changed = [] | [unknown] | { [name: string]: Changed };

/** A value after a change. What did not change in it is the same object as before. */
export function applied(before: unknown, change: Changed): unknown {
  if (Array.isArray(change)) return change[0];
  const next = (Array.isArray(before) ? [...(before as unknown[])] : { ...(before as object) }) as Record<string, unknown>;
  for (const [name, c] of Object.entries(change)) {
    if (Array.isArray(c) && c.length === 0) Reflect.deleteProperty(next, name);
    else next[name] = applied(next[name], c);
  }
  return next;
}

/**
 * Follows the mesh as long as the page is visible. A browser
 * opens six connections to one host for all its tabs, so hidden tabs must hold none.
 */
export function followMesh(): void {
  const began = Date.now();
  let source: EventSource;
  const open = () => {
    source = new EventSource("/api/v1/live?changes=true"); // each connection begins with a whole mesh
    const read = (name: string, meshOf: (data: unknown) => Mesh) =>
      source.addEventListener(name, (event: MessageEvent<string>) => {
        set({ mesh: meshOf(JSON.parse(event.data)), at: Date.now(), isStale: false });
      });
    read("mesh", (data) => data as Mesh);
    read("change", (data) => applied(live.mesh, data as Changed) as Mesh);
    source.onerror = () => void askWho(); // the credential may have been revoked
  };
  const check = () => {
    if (document.visibilityState === "hidden") source.close();
    else if (source.readyState === EventSource.CLOSED && !whoNow().isOut) open();
  };
  const leave = () => source.close(); // the browser may keep the page for the way back
  open();
  document.addEventListener("visibilitychange", check);
  window.addEventListener("pagehide", leave);
  window.addEventListener("pageshow", check);
  setInterval(() => {
    const isStale = document.visibilityState !== "hidden" && Date.now() - (live.at || began) > silence;
    if (isStale !== live.isStale) set({ ...live, isStale });
    check(); // a browser gives up for good after some failures; this does not
  }, 1000);
}

/** The newest mesh; null: none came yet. */
export const newestMesh = (): Mesh | null => live.mesh;

/** Reads a part of the mesh, as the same object for as long as nothing in it changes. */
function reader<T>(select: (mesh: Mesh | null) => T): () => T {
  let kept: { of: Mesh | null; value: T } | null = null;
  return () => {
    if (!kept) kept = { of: live.mesh, value: select(live.mesh) };
    else if (kept.of !== live.mesh) {
      const next = select(live.mesh);
      const isWhole = (next as unknown) === live.mesh; // it always changes, so there is nothing to compare
      kept = { of: live.mesh, value: isWhole ? next : replaceEqualDeep(kept.value, next) };
    }
    return kept.value;
  };
}

/**
 * A part of the live mesh. The component is drawn again only when that part changes: what
 * select returns is compared in depth with what it returned before.
 */
export function useMesh<T>(select: (mesh: Mesh | null) => T): T {
  return useSyncExternalStore(subscribe, useMemo(() => reader(select), [select]));
}

/** Whether the service is silent, and since when its last event is, in ms; 0: none came. */
export function useSilence(): { isStale: boolean; at: number } {
  const isStale = useSyncExternalStore(subscribe, () => live.isStale);
  const at = useSyncExternalStore(subscribe, () => (live.isStale ? live.at : 0));
  return { isStale, at };
}
